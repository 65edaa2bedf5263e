package cloud

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"
)

// OpenStack Networking has no feed of changes, but everything has a revision number. To look again, only ids and
// numbers are read, and then what has got another number.

// Changes finds no feed.
func (o *OpenStack) Changes(context.Context, Position, time.Duration) ([]Event, Position, error) {
	return nil, Position{}, ErrNoFeed
}

// An osVersion is the revision number of an object.
type osVersion struct {
	ID       string `json:"id"`
	Revision *int   `json:"revision_number"` // nil if the server has none
}

// osKept is what is known of a project.
type osKept struct {
	versions map[string][]osVersion // by list, sorted by id
	lists    map[string]any         // slices of their objects, as they were at their versions
	read     map[string][]osVersion // the versions that lists have
}

// versioned are the lists whose versions make up that of a project, and whether only what is the project's own is
// read.
var versioned = []struct {
	what string
	own  bool
}{{"networks", false}, {"subnets", false}, {"ports", true}, {"floatingips", true}, {"routers", true},
	{"address-groups", true}, {"security-groups", true}}

// Look reads what has changed in a project since the last look. Without revision numbers it reads everything.
func (o *OpenStack) Look(ctx context.Context, account, known string) (Look, error) {
	project, err := o.project(ctx, account)
	if err != nil {
		return Look{}, err
	}
	before, version, err := o.versions(ctx, account, project)
	if err != nil {
		return Look{}, err
	}
	if known != "" && version == known {
		return Look{Same: true, Version: version}, nil
	}
	if version == "" {
		lines, err := o.Survey(ctx, account)
		return Look{Lines: lines}, err
	}
	kept := o.keptOf(account)
	for range mostRestarts {
		kept.versions = before
		groups, err := keptList(ctx, o, account, "security-groups", url.Values{"project_id": {project}},
			func(g osGroup) string { return g.ID }, kept)
		if err != nil {
			return Look{}, err
		}
		lines, err := o.surveyWith(ctx, account, project, groups, kept)
		if err != nil {
			return Look{}, err
		}
		after, now, err := o.versions(ctx, account, project)
		if err != nil {
			return Look{}, err
		}
		if now == version {
			return Look{Lines: lines, Version: version}, nil
		}
		before, version = after, now
	}
	return Look{}, errChanged
}

// keptOf is what is known of an account's project. Looks at one account don't overlap.
func (o *OpenStack) keptOf(account string) *osKept {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.kept == nil {
		o.kept = make(map[string]*osKept)
	}
	if o.kept[account] == nil {
		o.kept[account] = &osKept{lists: make(map[string]any), read: make(map[string][]osVersion)}
	}
	return o.kept[account]
}

// versions reads the revision numbers of everything in a project. The version of them all is empty if the server has
// none.
func (o *OpenStack) versions(ctx context.Context, account, project string) (of map[string][]osVersion,
	version string, err error) {
	of = make(map[string][]osVersion)
	sum := sha256.New()
	numbered := true
	for _, x := range versioned {
		query := url.Values{"fields": {"id", "revision_number"}}
		if x.own {
			query.Set("project_id", project)
		}
		list, err := all(ctx, o, account, x.what, query, func(v osVersion) string { return v.ID })
		if err != nil {
			return nil, "", err
		}
		fmt.Fprintln(sum, x.what)
		for _, v := range list {
			if v.Revision == nil {
				numbered = false
				continue
			}
			fmt.Fprintln(sum, v.ID, *v.Revision)
		}
		of[x.what] = list
	}
	if !numbered {
		return of, "", nil
	}
	return of, hex.EncodeToString(sum.Sum(nil)), nil
}

// mostAsked is how many objects are asked for by id at once: they are all in the address.
const mostAsked = 40

// keptList is a list of a project as it is now: what is kept of it, if that is still of its version. It is sorted by
// id.
func keptList[T any](ctx context.Context, o *OpenStack, account, what string, query url.Values, idOf func(T) string,
	kept *osKept) ([]T, error) {
	if kept == nil {
		return all(ctx, o, account, what, query, idOf)
	}
	is, was := kept.versions[what], kept.read[what]
	old, there := kept.lists[what].([]T)
	known := make(map[string]int)
	for _, v := range was {
		known[v.ID] = *v.Revision
	}
	var moved []string
	for _, v := range is {
		if n, there := known[v.ID]; !there || n != *v.Revision {
			moved = append(moved, v.ID)
		}
	}
	var list []T
	if !there || len(moved) > max(mostAsked, len(is)/4) {
		var err error
		if list, err = all(ctx, o, account, what, query, idOf); err != nil {
			return nil, err
		}
	} else {
		stays := make(map[string]bool)
		for _, v := range is {
			stays[v.ID] = true
		}
		for _, id := range moved {
			stays[id] = false
		}
		for _, x := range old {
			if stays[idOf(x)] {
				list = append(list, x)
			}
		}
		for ids := range slices.Chunk(moved, mostAsked) {
			some := url.Values{"id": ids}
			fresh, err := all(ctx, o, account, what, some, idOf)
			if err != nil {
				return nil, err
			}
			list = append(list, fresh...)
		}
		slices.SortFunc(list, func(a, b T) int { return strings.Compare(idOf(a), idOf(b)) })
	}
	kept.lists[what], kept.read[what] = list, is
	return list, nil
}
