package enact

import (
	"encoding/json"
	"strings"
	"sync"

	"isonomos/cloud"
)

// names are the real ids of objects that have a made-up id in the draft, or that were made again
// since, by account. Lanes share the map, but no two of them share an id.
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
	for range 100 { // an object may have been made again several times
		real, ok := n.ids[account+"/"+id]
		if !ok || real == id {
			break
		}
		id = real
	}
	return id
}

// reference replaces a made-up id in a reference, which may have the account in front.
func (n *names) reference(account, id string) string {
	if other, rest, ok := strings.Cut(id, "/"); ok {
		return other + "/" + n.of(other, rest)
	}
	return n.of(account, id)
}

// request is a request in which made-up ids are replaced by real ones.
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

// line is a line of a survey in which made-up ids are replaced. A line that can't be decoded is
// returned as it is.
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

// object is a touched object in which old and made-up ids are replaced.
func (n *names) object(o Touched) *Touched {
	o.ID = n.of(o.Account, o.ID)
	before := o.Before
	o.Before = nil
	for _, text := range before {
		o.Before = append(o.Before, n.line(text))
	}
	return &o
}

// encode encodes a value that can always be encoded.
func encode(v any) json.RawMessage {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err) // texts and maps of them
	}
	return text
}
