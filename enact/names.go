package enact

import (
	"encoding/json"
	"strings"
	"sync"

	"isonomos/cloud"
)

// names are the ids that clouds gave to what has a made-up one in the draft, or another
// one since, by account. Lanes don't share any, but they share the map.
type names struct {
	mu  sync.Mutex
	ids map[string]string // "account/made-up" to the real one
}

func newNames() *names { return &names{ids: make(map[string]string)} }

func (n *names) learn(account string, ids map[string]string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for made, real := range ids {
		n.ids[account+"/"+made] = real
	}
}

// of is the real id of something in an account.
func (n *names) of(account, id string) string {
	n.mu.Lock()
	defer n.mu.Unlock()
	for range 100 { // what was made may have been made again since
		real, ok := n.ids[account+"/"+id]
		if !ok || real == id {
			break
		}
		id = real
	}
	return id
}

// reference replaces a made-up id, which may stand behind its account.
func (n *names) reference(account, id string) string {
	if other, rest, ok := strings.Cut(id, "/"); ok {
		return other + "/" + n.of(other, rest)
	}
	return n.of(account, id)
}

// request is a request with real ids for made-up ones.
func (n *names) request(r cloud.Request) cloud.Request {
	real := r
	real.ID = n.of(r.Account, r.ID)
	real.Groups = nil
	for _, g := range r.Groups {
		real.Groups = append(real.Groups, n.reference(r.Account, g))
	}
	real.Rules = nil
	for _, text := range r.Rules {
		real.Rules = append(real.Rules, n.line(text))
	}
	return real
}

// line is a line of a survey with real ids for made-up ones. What can't be read stays.
func (n *names) line(text json.RawMessage) json.RawMessage {
	var whole map[string]json.RawMessage
	var account string
	if json.Unmarshal(text, &whole) != nil || json.Unmarshal(whole["account"], &account) != nil {
		return text
	}
	for _, field := range []string{"id", "group"} {
		var id string
		if json.Unmarshal(whole[field], &id) == nil {
			whole[field] = encode(n.of(account, id))
		}
	}
	var peers, groups []string
	if json.Unmarshal(whole["peers"], &peers) == nil {
		for i, p := range peers {
			if kind, ref, ok := strings.Cut(p, ":"); ok && (kind == "group" || kind == "list") {
				id, family, _ := strings.Cut(ref, " ")
				peers[i] = strings.TrimSpace(kind + ":" + n.reference(account, id) + " " + family)
			}
		}
		whole["peers"] = encode(peers)
	}
	if json.Unmarshal(whole["groups"], &groups) == nil {
		for i, g := range groups {
			groups[i] = n.reference(account, g)
		}
		whole["groups"] = encode(groups)
	}
	var faces []map[string]json.RawMessage
	if json.Unmarshal(whole["interfaces"], &faces) == nil {
		for _, f := range faces {
			if json.Unmarshal(f["groups"], &groups) == nil {
				for i, g := range groups {
					groups[i] = n.reference(account, g)
				}
				f["groups"] = encode(groups)
			}
		}
		whole["interfaces"] = encode(faces)
	}
	return encode(whole)
}

// object is a touched object with the ids that it, and what it names, have now.
func (n *names) object(o Touched) *Touched {
	o.ID = n.of(o.Account, o.ID)
	before := o.Before
	o.Before = nil
	for _, text := range before {
		o.Before = append(o.Before, n.line(text))
	}
	return &o
}

// encode writes what can always be written.
func encode(v any) json.RawMessage {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err) // texts and maps of them
	}
	return text
}
