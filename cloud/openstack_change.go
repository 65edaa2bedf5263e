package cloud

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"isonomos/core/change"
	"isonomos/core/estate"
)

// Read is an object as it is now. The version of a group is its revision, which each
// change of its rules raises; that of an instance are the revisions of its ports; that
// of a list, which has none, is a fingerprint.
func (o *OpenStack) Read(ctx context.Context, account string, of Ref) (Object, error) {
	object := Object{ID: of.ID}
	put := func(line any) {
		text, err := json.Marshal(line)
		if err != nil {
			panic(err) // texts and numbers
		}
		object.Lines = append(object.Lines, text)
	}
	switch of.Kind {
	case "group":
		var answer struct {
			Group osGroup `json:"security_group"`
		}
		if err := o.ask(ctx, account, http.MethodGet, "security-groups/"+url.PathEscape(of.ID), nil, &answer,
			nil); err != nil {
			return object, err
		}
		if answer.Group.ID != of.ID {
			return object, errElse
		}
		object.Version = strconv.Itoa(answer.Group.Revision)
		for _, line := range groupLines(account, answer.Group) {
			put(line)
		}
	case "list":
		var answer struct {
			List osList `json:"address_group"`
		}
		if err := o.ask(ctx, account, http.MethodGet, "address-groups/"+url.PathEscape(of.ID), nil, &answer,
			nil); err != nil {
			return object, err
		}
		if answer.List.ID != of.ID {
			return object, errElse
		}
		put(listLine(account, answer.List))
		sum := sha256.Sum256(object.Lines[0])
		object.Version = hex.EncodeToString(sum[:8])
	case "instance":
		ports, err := o.portsOf(ctx, account, of.ID)
		if err != nil {
			return object, err
		}
		var revisions []string
		for _, p := range ports {
			revisions = append(revisions, p.ID+"="+strconv.Itoa(p.Revision))
		}
		object.Version = strings.Join(revisions, ",")
		for _, line := range instanceLines(account, ports, nil) {
			put(line)
		}
		if len(object.Lines) == 0 {
			return object, fmt.Errorf("the instance %s has no ports: %w", of.ID, ErrGone)
		}
	default:
		return object, fmt.Errorf("OpenStack Networking has no %s that could be changed", of.Kind)
	}
	return object, nil
}

// errElse says that an answer is about something else than what was asked for.
var errElse = errors.New("the answer is about something else")

// portsOf are the ports of a device, or the one port that is an instance by itself.
func (o *OpenStack) portsOf(ctx context.Context, account, id string) ([]osPort, error) {
	ports, err := all(ctx, o, account, "ports", url.Values{"device_id": {id}}, func(p osPort) string { return p.ID })
	if err != nil || len(ports) > 0 {
		return ports, err
	}
	var answer struct {
		Port osPort `json:"port"`
	}
	if err := o.ask(ctx, account, http.MethodGet, "ports/"+url.PathEscape(id), nil, &answer, nil); err != nil {
		return nil, err
	}
	return []osPort{answer.Port}, nil
}

// Once is false: names are taken as often as one likes, and rules are added to whatever
// revision a group has.
func (o *OpenStack) Once() bool { return false }

// Named are the groups or address groups of a name. OpenStack lets several have one.
func (o *OpenStack) Named(ctx context.Context, account, kind, name string) ([]Ref, error) {
	project, err := o.project(ctx, account)
	if err != nil {
		return nil, err
	}
	what := map[string]string{"group": "security-groups", "list": "address-groups"}[kind]
	type named struct {
		ID string `json:"id"`
	}
	found, err := all(ctx, o, account, what, url.Values{"project_id": {project}, "name": {name}},
		func(n named) string { return n.ID })
	var refs []Ref
	for _, n := range found {
		refs = append(refs, Ref{kind, n.ID})
	}
	return refs, err
}

// Change carries a request out. Ports and groups are guarded by their revision
// (If-Match). Where the server has no such guard (rules, tags, address groups), the
// version is read just before: a change by somebody else in that moment is seen by
// the next step, not prevented.
func (o *OpenStack) Change(ctx context.Context, r Request, version string) (Object, error) {
	ctx = context.WithValue(ctx, onceKey{}, true)
	id := url.PathEscape(r.ID)
	switch r.Do {
	case change.CreateGroup:
		return o.createGroup(ctx, r)
	case change.CreateList:
		return o.createList(ctx, r)
	case change.DeleteGroup:
		return Object{ID: r.ID},
			o.ask(ctx, r.Account, http.MethodDelete, "security-groups/"+id, nil, nil, ifRevision(version))
	case change.Attach:
		return o.attach(ctx, r, version)
	}
	before, err := o.still(ctx, r, version)
	if err != nil {
		return Object{}, err
	}
	var lines []json.RawMessage
	switch r.Do {
	case change.LabelGroup:
		err = o.ask(ctx, r.Account, http.MethodPut, "security-groups/"+id+"/tags",
			map[string]any{"tags": tagsOfLabels(r.Labels)}, nil, nil)
	case change.AddRules:
		lines, err = o.addRules(ctx, r)
	case change.RemoveRule:
		var rule osLine
		if len(r.Rules) != 1 || json.Unmarshal(r.Rules[0], &rule) != nil {
			return Object{}, unknownRequest(r)
		}
		err = o.ask(ctx, r.Account, http.MethodDelete, "security-group-rules/"+url.PathEscape(rule.ID), nil, nil, nil)
	case change.LabelList:
		err = o.labelList(ctx, r, before)
	case change.SetEntries:
		err = o.setEntries(ctx, r, before)
	case change.DeleteList:
		err = o.ask(ctx, r.Account, http.MethodDelete, "address-groups/"+id, nil, nil, nil)
		return Object{ID: r.ID}, err
	default:
		return Object{}, unknownRequest(r)
	}
	if err != nil {
		return Object{}, err
	}
	now, err := o.Read(ctx, r.Account, r.Of())
	return Object{r.ID, now.Version, lines}, err
}

func ifRevision(version string) map[string]string {
	if version == "" {
		return nil
	}
	return map[string]string{"If-Match": "revision_number=" + version}
}

// still reads the object of a request and checks that it has the version that the request is for.
func (o *OpenStack) still(ctx context.Context, r Request, version string) (Object, error) {
	now, err := o.Read(ctx, r.Account, r.Of())
	if err == nil && version != "" && now.Version != version {
		err = fmt.Errorf("the %s %s: %w", r.Of().Kind, r.ID, ErrMoved)
	}
	return now, err
}

func (o *OpenStack) createGroup(ctx context.Context, r Request) (Object, error) {
	var asked osLine
	if err := json.Unmarshal(r.Object, &asked); err != nil {
		return Object{}, err
	}
	description, err := marked(asked.Description, asked.Labels)
	if err != nil || asked.Labels[estate.OwnLabel] != "" {
		return Object{}, fmt.Errorf("%w: OpenStack labels a group after it was made", ErrRefused)
	}
	group := map[string]any{"name": asked.Name, "description": description}
	if asked.Stateful != nil {
		group["stateful"] = *asked.Stateful
	}
	var answer struct {
		Group osGroup `json:"security_group"`
	}
	if err := o.ask(ctx, r.Account, http.MethodPost, "security-groups", map[string]any{"security_group": group},
		&answer, nil); err != nil {
		return Object{}, err
	}
	if answer.Group.ID == "" {
		return Object{}, errors.New("the answer does not say what was made")
	}
	return o.Read(ctx, r.Account, Ref{"group", answer.Group.ID})
}

func (o *OpenStack) createList(ctx context.Context, r Request) (Object, error) {
	var asked osLine
	if err := json.Unmarshal(r.Object, &asked); err != nil {
		return Object{}, err
	}
	description, err := marked(asked.Description, asked.Labels)
	if err != nil {
		return Object{}, err
	}
	var answer struct {
		List osList `json:"address_group"`
	}
	body := map[string]any{"address_group": map[string]any{"name": asked.Name, "description": description,
		"addresses": orEmpty(asked.Entries)}}
	if err := o.ask(ctx, r.Account, http.MethodPost, "address-groups", body, &answer, nil); err != nil {
		return Object{}, err
	}
	if answer.List.ID == "" {
		return Object{}, errors.New("the answer does not say what was made")
	}
	return o.Read(ctx, r.Account, Ref{"list", answer.List.ID})
}

// Settle takes the mark of the step that made a group or address group off its description.
func (o *OpenStack) Settle(ctx context.Context, account string, of Ref, description string) (string, error) {
	ctx = context.WithValue(ctx, onceKey{}, true)
	now, err := o.Read(ctx, account, of)
	if err != nil {
		return "", err
	}
	var l osLine
	if err := json.Unmarshal(now.Lines[0], &l); err != nil {
		return "", err
	}
	if l.Labels[estate.MadeLabel] == "" {
		return now.Version, nil
	}
	what, name, kept := "security-groups/", "security_group", map[string]string(nil)
	if of.Kind == "list" {
		what, name, kept = "address-groups/", "address_group", l.Labels
		delete(kept, estate.MadeLabel)
	}
	description, err = marked(description, kept)
	if err != nil {
		return "", err
	}
	if err := o.ask(ctx, account, http.MethodPut, what+url.PathEscape(of.ID),
		map[string]any{name: map[string]any{"description": description}}, nil, nil); err != nil {
		return "", err
	}
	now, err = o.Read(ctx, account, of)
	return now.Version, err
}

// addRules adds all rules of a request in one call, which the server carries out as a whole or not
// at all.
func (o *OpenStack) addRules(ctx context.Context, r Request) ([]json.RawMessage, error) {
	rules := make([]osRule, len(r.Rules))
	for i, text := range r.Rules {
		var err error
		if rules[i], err = ruleOf(text, r.ID); err != nil {
			return nil, err
		}
	}
	var answer struct {
		Rules []osRule `json:"security_group_rules"`
	}
	if err := o.ask(ctx, r.Account, http.MethodPost, "security-group-rules",
		map[string]any{"security_group_rules": rules}, &answer, nil); err != nil {
		return nil, err
	}
	if len(answer.Rules) != len(rules) {
		return nil, fmt.Errorf("%d rules were to be made, and the answer has %d", len(rules), len(answer.Rules))
	}
	var lines []json.RawMessage
	for i := range rules { // in the order of the request
		k := slices.IndexFunc(answer.Rules, func(x osRule) bool { return x.ID != "" && sameRule(x, rules[i]) })
		if k < 0 {
			return nil, errors.New("the answer is about other rules than those that were to be made")
		}
		text, err := json.Marshal(ruleLine(r.Account, answer.Rules[k]))
		if err != nil {
			return nil, err
		}
		lines = append(lines, text)
		answer.Rules[k].ID = ""
	}
	return lines, nil
}

// sameRule reports whether two rules mean the same.
func sameRule(a, b osRule) bool {
	x, y := ruleLine("", a), ruleLine("", b)
	return x.Direction == y.Direction && slices.Equal(x.Services, y.Services) && slices.Equal(x.Peers, y.Peers) &&
		x.Description == y.Description
}

func (o *OpenStack) labelList(ctx context.Context, r Request, before Object) error {
	var l osLine
	if err := json.Unmarshal(before.Lines[0], &l); err != nil {
		return err
	}
	description, err := marked(l.Description, r.Labels)
	if err != nil {
		return err
	}
	return o.ask(ctx, r.Account, http.MethodPut, "address-groups/"+url.PathEscape(r.ID),
		map[string]any{"address_group": map[string]any{"description": description}}, nil, nil)
}

// setEntries adds entries to an address group or removes some; a draft never does both at once.
func (o *OpenStack) setEntries(ctx context.Context, r Request, before Object) error {
	var l osLine
	if err := json.Unmarshal(before.Lines[0], &l); err != nil {
		return err
	}
	missing := func(from, of []string) []string {
		return slices.DeleteFunc(slices.Clone(of), func(e string) bool { return slices.Contains(from, e) })
	}
	for _, x := range []struct {
		action  string
		entries []string
	}{{"add_addresses", missing(l.Entries, r.Entries)}, {"remove_addresses", missing(r.Entries, l.Entries)}} {
		if len(x.entries) == 0 {
			continue
		}
		// unlike all other requests, this one is not wrapped in the object's name
		body := map[string]any{"addresses": x.entries}
		if err := o.ask(ctx, r.Account, http.MethodPut, "address-groups/"+url.PathEscape(r.ID)+"/"+x.action, body,
			nil, nil); err != nil {
			return err
		}
	}
	return nil
}

// attach attaches groups to a port, if the port still has the revision that the version names.
func (o *OpenStack) attach(ctx context.Context, r Request, version string) (Object, error) {
	revision := ""
	for _, part := range strings.Split(version, ",") {
		if port, n, _ := strings.Cut(part, "="); port == r.ID {
			revision = n
		}
	}
	if revision == "" && version != "" {
		return Object{}, fmt.Errorf("the port %s of %s: %w", r.ID, r.Holder, ErrGone)
	}
	body := map[string]any{"port": map[string]any{"security_groups": orEmpty(r.Groups)}}
	if err := o.ask(ctx, r.Account, http.MethodPut, "ports/"+url.PathEscape(r.ID), body, nil,
		ifRevision(revision)); err != nil {
		return Object{}, err
	}
	now, err := o.Read(ctx, r.Account, r.Of())
	return Object{r.ID, now.Version, nil}, err
}
