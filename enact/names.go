package enact

import (
	"encoding/json"
	"strings"
	"sync"

	"isonomos/cloud"
)

// names are the ids that clouds gave to what has a made-up one in the draft, by
// account. Lanes don't share any, but they share the map.
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
	if real, ok := n.ids[account+"/"+id]; ok {
		return real
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
func (n *names) request(r cloud.Request) (cloud.Request, error) {
	real := r
	real.ID = n.of(r.Account, r.ID)
	real.Groups = nil
	for _, g := range r.Groups {
		real.Groups = append(real.Groups, n.reference(r.Account, g))
	}
	real.Rules = nil
	for _, text := range r.Rules {
		var rule map[string]json.RawMessage
		var peers []string
		var id, group string
		if err := json.Unmarshal(text, &rule); err != nil {
			return r, err
		}
		if err := json.Unmarshal(rule["peers"], &peers); err != nil {
			return r, err
		}
		_ = json.Unmarshal(rule["id"], &id)
		_ = json.Unmarshal(rule["group"], &group)
		for i, p := range peers {
			if kind, ref, ok := strings.Cut(p, ":"); ok && (kind == "group" || kind == "list") {
				id, family, _ := strings.Cut(ref, " ")
				peers[i] = strings.TrimSpace(kind + ":" + n.reference(r.Account, id) + " " + family)
			}
		}
		rule["peers"] = encode(peers)
		rule["id"] = encode(n.of(r.Account, id))
		rule["group"] = encode(n.of(r.Account, group))
		real.Rules = append(real.Rules, encode(rule))
	}
	return real, nil
}

// encode writes what can always be written.
func encode(v any) json.RawMessage {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err) // texts and maps of them
	}
	return text
}
