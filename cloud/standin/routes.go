package standin

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"isonomos/core/count"
	"isonomos/core/dialect"
)

// routes are all paths that are served.
func (s *Server) routes() {
	mux := s.mux
	mux.HandleFunc("GET /{cloud}/v1/whoami", s.whoami)
	mux.HandleFunc("GET /{cloud}/v1/accounts", s.list)
	mux.HandleFunc("GET /{cloud}/v1/accounts/{account}/objects", s.list)
	mux.HandleFunc("GET /{cloud}/v1/changes", s.changed)
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		if methods := s.methods(r); len(methods) > 0 {
			w.Header().Set("Allow", strings.Join(methods, ", "))
			tell(w, http.StatusMethodNotAllowed, fmt.Sprintf("%s takes no %s", r.URL.Path, r.Method))
			return
		}
		tell(w, http.StatusNotFound, fmt.Sprintf("there is nothing at %s to %s", r.URL.Path, r.Method))
	})
	const account = "/{cloud}/v1/accounts/{account}"
	mux.HandleFunc("GET "+account+"/objects/{kind}/{id}", s.single)
	mux.HandleFunc("GET "+account+"/groups/{id}", s.group)
	mux.HandleFunc("POST "+account+"/groups", s.createGroup)
	mux.HandleFunc("PATCH "+account+"/groups/{id}", s.changeGroup)
	mux.HandleFunc("DELETE "+account+"/groups/{id}", s.deleteGroup)
	mux.HandleFunc("POST "+account+"/groups/{id}/rules", s.createRule)
	mux.HandleFunc("DELETE "+account+"/groups/{id}/rules/{rule}", s.deleteRule)
	mux.HandleFunc("POST "+account+"/lists", s.createList)
	mux.HandleFunc("PATCH "+account+"/lists/{id}", s.changeList)
	mux.HandleFunc("PUT "+account+"/lists/{id}/entries", s.changeEntries)
	mux.HandleFunc("DELETE "+account+"/lists/{id}", s.deleteList)
	mux.HandleFunc("PUT "+account+"/interfaces/{id}/groups", s.attach)
	mux.HandleFunc("PUT "+account+"/subnets/{id}/groups", s.attach)
}

// methods are those that are served at the path of a request.
func (s *Server) methods(r *http.Request) []string {
	var all []string
	for _, method := range []string{"DELETE", "GET", "PATCH", "POST", "PUT"} {
		other := r.Clone(r.Context())
		other.Method = method
		if _, pattern := s.mux.Handler(other); pattern != "/" {
			all = append(all, method)
		}
	}
	return all
}

// single answers with one object and its version.
func (s *Server) single(w http.ResponseWriter, r *http.Request) {
	s.object(w, r, key{r.PathValue("kind"), r.PathValue("id")}, func(of *entry, l line) any { return l })
}

// group answers with a group and its rules, and their common version.
func (s *Server) group(w http.ResponseWriter, r *http.Request) {
	s.object(w, r, key{"group", r.PathValue("id")}, func(of *entry, _ line) any { return groupWithRules(of) })
}

// object answers with what is said of an object.
func (s *Server) object(w http.ResponseWriter, r *http.Request, want key, says func(of *entry, l line) any) {
	_, a, ok := s.find(w, r)
	if !ok {
		return
	}
	s.mu.Lock()
	of, l, there := a.find(want)
	s.mu.Unlock()
	if !there {
		tell(w, http.StatusNotFound, fmt.Sprintf("there is no %s %q", want.Kind, want.ID))
		return
	}
	w.Header().Set("ETag", strconv.Quote(etagOf(of, l)))
	answer(w, says(of, l))
}

// groupWithRules is the answer about a group.
func groupWithRules(of *entry) map[string]any {
	return map[string]any{"group": of.line, "rules": append([]line{}, of.rules...)}
}

// newLetsOut reports whether new groups of a dialect let everything out.
func newLetsOut(name string) bool {
	known, _ := dialect.Lookup(name)
	return known.NewLetsOut
}

func (s *Server) createGroup(w http.ResponseWriter, r *http.Request) {
	s.change(w, r, func(d *draft) (made, of key, err error) {
		var o object
		if err := body(r, &o); err != nil {
			return made, of, err
		}
		if o.Name == "" {
			return made, of, refuse(http.StatusUnprocessableEntity, "a name has 1 to %d bytes", longestText)
		}
		c := s.state.clouds[d.cloud]
		o = object{Kind: "group", Account: d.own.name, ID: newID("grp"), Network: o.Network, Name: o.Name,
			For: cmp.Or(o.For, "instances"), Description: o.Description, Labels: o.Labels, Stateful: o.Stateful}
		d.put("create", o)
		// the cloud adds such a rule to every new group; it can be removed
		if newLetsOut(c.dialect) && o.For == "instances" {
			for _, range_ := range []string{"0.0.0.0/0", "::/0"} {
				d.put("create", object{Kind: "rule", Account: d.own.name, Group: o.ID, ID: newID("rul"),
					Direction: "out", Action: "admit", Peers: []string{range_}, Services: []string{"any"}})
			}
		}
		made = key{"group", o.ID}
		return made, made, nil
	})
}

func (s *Server) changeGroup(w http.ResponseWriter, r *http.Request) {
	s.change(w, r, func(d *draft) (made, of key, err error) {
		o, err := d.current(r, "group", r.PathValue("id"))
		if err != nil {
			return made, of, err
		}
		var to struct {
			Name        *string           `json:"name"`
			Description *string           `json:"description"`
			Labels      map[string]string `json:"labels"`
		}
		if err := body(r, &to); err != nil {
			return made, of, err
		}
		if to.Name != nil {
			if o.BuiltIn {
				return made, of, conflict(builtIn, "a built-in group keeps its name")
			}
			if o.Name = *to.Name; o.Name == "" {
				return made, of, refuse(http.StatusUnprocessableEntity, "a name has 1 to %d bytes", longestText)
			}
		}
		if to.Description != nil {
			o.Description = *to.Description
		}
		if to.Labels != nil {
			o.Labels = to.Labels
		}
		d.put("change", o)
		made = key{"group", o.ID}
		return made, made, nil
	})
}

func (s *Server) deleteGroup(w http.ResponseWriter, r *http.Request) {
	s.change(w, r, func(d *draft) (made, of key, err error) {
		o, err := d.current(r, "group", r.PathValue("id"))
		if err != nil {
			return made, of, err
		}
		if o.BuiltIn || o.Default {
			return made, of, conflict(builtIn, "a built-in group can't be deleted")
		}
		if users := d.users("group", o.ID); len(users) > 0 {
			return made, of, conflict(inUse, "the group is in use by %s", strings.Join(users, ", "))
		}
		in, _, _ := d.find("group", o.ID)
		for _, rule := range in.rules {
			d.drop("rule", rule.ID)
		}
		d.drop("group", o.ID)
		return made, of, nil
	})
}

func (s *Server) createRule(w http.ResponseWriter, r *http.Request) {
	s.change(w, r, func(d *draft) (made, of key, err error) {
		g, err := d.current(r, "group", r.PathValue("id"))
		if err != nil {
			return made, of, err
		}
		var sent struct {
			object
			Rules []object `json:"rules"`
		}
		if err := body(r, &sent); err != nil {
			return made, of, err
		}
		known, _ := dialect.Lookup(s.state.clouds[d.cloud].dialect)
		if sent.Rules == nil {
			o := d.putRule(g.ID, sent.object)
			return key{"rule", o.ID}, key{"group", g.ID}, nil
		}
		if !known.BulkRules {
			return made, of, refuse(http.StatusUnprocessableEntity, "this cloud takes one rule in a request")
		}
		rules := make([]json.RawMessage, len(sent.Rules))
		for i, o := range sent.Rules {
			rules[i] = d.putRule(g.ID, o).text()
		}
		d.made = map[string]any{"rules": rules}
		return made, key{"group", g.ID}, nil
	})
}

// putRule adds a rule to a group.
func (d *draft) putRule(group string, o object) object {
	o = object{Kind: "rule", Account: d.own.name, Group: group, ID: newID("rul"), Direction: o.Direction,
		Action: cmp.Or(o.Action, "admit"), Rank: o.Rank, Peers: o.Peers, Services: o.Services, Stateless: o.Stateless,
		Description: o.Description}
	d.put("create", o)
	return o
}

func (s *Server) deleteRule(w http.ResponseWriter, r *http.Request) {
	s.change(w, r, func(d *draft) (made, of key, err error) {
		g, err := d.current(r, "group", r.PathValue("id"))
		if err != nil {
			return made, of, err
		}
		o, err := d.current(&http.Request{}, "rule", r.PathValue("rule"))
		if err != nil {
			return made, of, err
		}
		switch {
		case o.Group != g.ID:
			return made, of, refuse(http.StatusNotFound, "the group %s has no rule %s", g.ID, o.ID)
		case o.BuiltIn:
			return made, of, conflict(builtIn, "a built-in rule can't be deleted, only outranked")
		}
		d.drop("rule", o.ID)
		return made, key{"group", g.ID}, nil
	})
}

func (s *Server) createList(w http.ResponseWriter, r *http.Request) {
	s.change(w, r, func(d *draft) (made, of key, err error) {
		var o object
		if err := body(r, &o); err != nil {
			return made, of, err
		}
		known, _ := dialect.Lookup(s.state.clouds[d.cloud].dialect)
		switch {
		case known.OwnLists == dialect.ListsExpanded:
			return made, of, refuse(http.StatusUnprocessableEntity, "this cloud has no own lists")
		case o.Name == "":
			return made, of, refuse(http.StatusUnprocessableEntity, "a list has a name")
		case o.Capacity > 0 && len(o.Entries) > o.Capacity:
			return made, of, conflict(overQuota, "the list has room for %s",
				count.Of(o.Capacity, "entry", "entries"))
		}
		if other := d.own.names[naming{kind: "list", name: o.Name}]; other != "" {
			return made, of, conflict(nameTaken, "the list %s has that name already", other)
		}
		o = object{Kind: "list", Account: d.own.name, ID: newID("lst"), Name: o.Name, Owner: "own",
			Description: o.Description, Labels: o.Labels, Entries: o.Entries, Capacity: o.Capacity}
		d.put("create", o)
		made = key{"list", o.ID}
		return made, made, nil
	})
}

// changeList replaces a list's labels or description.
func (s *Server) changeList(w http.ResponseWriter, r *http.Request) {
	s.change(w, r, func(d *draft) (made, of key, err error) {
		o, err := d.current(r, "list", r.PathValue("id"))
		if err != nil {
			return made, of, err
		}
		var to struct {
			Description *string           `json:"description"`
			Labels      map[string]string `json:"labels"`
		}
		if err := body(r, &to); err != nil {
			return made, of, err
		}
		if o.Owner != "own" {
			return made, of, refuse(http.StatusForbidden, "the provider keeps this list")
		}
		if to.Description != nil {
			o.Description = *to.Description
		}
		if to.Labels != nil {
			o.Labels = to.Labels
		}
		d.put("change", o)
		made = key{"list", o.ID}
		return made, made, nil
	})
}

func (s *Server) changeEntries(w http.ResponseWriter, r *http.Request) {
	s.change(w, r, func(d *draft) (made, of key, err error) {
		o, err := d.current(r, "list", r.PathValue("id"))
		if err != nil {
			return made, of, err
		}
		var to struct {
			Entries []string `json:"entries"`
		}
		if err := body(r, &to); err != nil {
			return made, of, err
		}
		switch {
		case o.Owner != "own":
			return made, of, refuse(http.StatusForbidden, "the provider keeps this list")
		case o.Capacity > 0 && len(to.Entries) > o.Capacity:
			return made, of, conflict(overQuota, "the list has room for %s",
				count.Of(o.Capacity, "entry", "entries"))
		}
		o.Entries = to.Entries
		d.put("change", o)
		made = key{"list", o.ID}
		return made, made, nil
	})
}

func (s *Server) deleteList(w http.ResponseWriter, r *http.Request) {
	s.change(w, r, func(d *draft) (made, of key, err error) {
		o, err := d.current(r, "list", r.PathValue("id"))
		if err != nil {
			return made, of, err
		}
		if o.Owner != "own" {
			return made, of, refuse(http.StatusForbidden, "the provider keeps this list")
		}
		if users := d.users("list", o.ID); len(users) > 0 {
			return made, of, conflict(inUse, "the list is in use by %s", strings.Join(users, ", "))
		}
		d.drop("list", o.ID)
		return made, of, nil
	})
}

// attach replaces the groups that are attached to an interface or a subnet.
func (s *Server) attach(w http.ResponseWriter, r *http.Request) {
	s.change(w, r, func(d *draft) (made, of key, err error) {
		id := r.PathValue("id")
		subnet := strings.Contains(r.URL.Path, "/subnets/")
		var to struct {
			Groups []string `json:"groups"`
		}
		if err := body(r, &to); err != nil {
			return made, of, err
		}
		known, _ := dialect.Lookup(s.state.clouds[d.cloud].dialect)
		kind := "instances"
		if subnet {
			kind = "subnets"
		}
		for _, g := range to.Groups {
			o, err := d.current(&http.Request{}, "group", g)
			if err != nil {
				return made, of, refuse(http.StatusUnprocessableEntity, "there is no group %q", g)
			}
			if cmp.Or(o.For, "instances") != kind {
				return made, of, refuse(http.StatusUnprocessableEntity, "the group %s is not for %s", g, kind)
			}
		}
		if !subnet && known.GroupsPerInterface > 0 && len(to.Groups) > known.GroupsPerInterface {
			return made, of, conflict(overQuota, "an interface of this cloud has at most %s",
				count.Of(known.GroupsPerInterface, "group", "groups"))
		}
		if subnet && len(to.Groups) > known.GroupsPerSubnet {
			return made, of, conflict(overQuota, "a subnet of this cloud has at most %s",
				count.Of(known.GroupsPerSubnet, "group", "groups"))
		}
		for _, e := range d.entries {
			if e == nil {
				continue
			}
			k := e.key
			changed, ok := withGroups(e.line, subnet, id, to.Groups)
			if !ok {
				continue
			}
			if err := matches(r, etagOf(e, e.line), k.Kind, k.ID); err != nil {
				return made, of, err
			}
			d.putLine("change", line{key: k, text: changed})
			return k, k, nil
		}
		return made, of, refuse(http.StatusNotFound, "there is nothing with the id %q", id)
	})
}

// withGroups replaces the groups in the line of a subnet, or of the instance that has an interface.
// It keeps everything else as it is. The result ok says whether the line is about that interface or
// subnet.
func withGroups(l line, subnet bool, id string, groups []string) (changed json.RawMessage, ok bool) {
	if subnet && l.key != (key{"subnet", id}) ||
		!subnet && (l.Kind != "instance" || !bytes.Contains(l.text, []byte(strconv.Quote(id)))) {
		return nil, false
	}
	var whole map[string]any
	dec := json.NewDecoder(bytes.NewReader(l.text))
	dec.UseNumber()
	if dec.Decode(&whole) != nil {
		return nil, false
	}
	if groups == nil {
		groups = []string{}
	}
	if subnet {
		whole["groups"] = groups
		return ordered(whole), true
	}
	interfaces, _ := whole["interfaces"].([]any)
	for _, x := range interfaces {
		if f, _ := x.(map[string]any); f["id"] == id {
			f["groups"] = groups
			return ordered(whole), true
		}
	}
	return nil, false
}

// ordered writes an object with its kind as the first field, as surveys do.
func ordered(whole map[string]any) json.RawMessage {
	kind, _ := json.Marshal(whole["kind"])
	delete(whole, "kind")
	rest, _ := json.Marshal(whole) // what was decoded can be encoded
	return json.RawMessage(`{"kind":` + string(kind) + `,` + string(rest[1:]))
}
