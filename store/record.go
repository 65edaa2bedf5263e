package store

import (
	"bytes"
	"encoding/json"
)

// A record is a line of a survey. Each kind of object uses some of the fields; unknown fields are
// ignored.
type record struct {
	Kind    string `json:"kind"`
	Account string `json:"account,omitempty"`
	Network string `json:"network,omitempty"`
	Group   string `json:"group,omitempty"`
	ID      string `json:"id,omitempty"`
	Name    string `json:"name,omitempty"`

	// survey
	Version int    `json:"version,omitempty"`
	Taken   string `json:"taken,omitempty"`
	Estate  string `json:"estate,omitempty"`

	// cloud, account
	Dialect string            `json:"dialect,omitempty"`
	Cloud   string            `json:"cloud,omitempty"`
	Region  string            `json:"region,omitempty"`
	Folder  string            `json:"folder,omitempty"`
	Labels  map[string]string `json:"labels,omitempty"`
	Limits  map[string]int    `json:"limits,omitempty"`

	// network, subnet
	Ranges  []string      `json:"ranges,omitempty"`
	Answers string        `json:"answers,omitempty"`
	Peers   peers         `json:"peers,omitzero"` // of a network: networks; of a rule: texts
	Routes  []routeRecord `json:"routes,omitempty"`
	Groups  []string      `json:"groups,omitempty"`

	// instance
	Type       string            `json:"type,omitempty"`
	Interfaces []interfaceRecord `json:"interfaces,omitempty"`
	Listeners  []listenerRecord  `json:"listeners,omitempty"`

	// group, rule
	For         string   `json:"for,omitempty"`
	Description string   `json:"description,omitempty"`
	BuiltIn     bool     `json:"built_in,omitempty"`
	Default     bool     `json:"default,omitempty"`
	Stateful    *bool    `json:"stateful,omitempty"`
	Direction   string   `json:"direction,omitempty"`
	Action      string   `json:"action,omitempty"`
	Rank        int      `json:"rank,omitempty"`
	Services    []string `json:"services,omitempty"`
	Stateless   bool     `json:"stateless,omitempty"`
	Changed     *changed `json:"changed,omitempty"`

	// unread
	Reason string `json:"reason,omitempty"`

	// list
	Owner    string   `json:"owner,omitempty"`
	Entries  []string `json:"entries,omitempty"`
	Capacity int      `json:"capacity,omitempty"`
}

// peers are the peered networks of a network, or the peers of a rule.
type peers struct {
	networks []networkRef
	texts    []string
}

type networkRef struct {
	Account string `json:"account"`
	Network string `json:"network"`
}

func (p *peers) UnmarshalJSON(data []byte) error {
	if bytes.Contains(data, []byte("{")) {
		return json.Unmarshal(data, &p.networks)
	}
	return json.Unmarshal(data, &p.texts)
}

func (p peers) MarshalJSON() ([]byte, error) {
	if p.networks != nil {
		return json.Marshal(p.networks)
	}
	return json.Marshal(p.texts)
}

func (p peers) IsZero() bool { return p.networks == nil && p.texts == nil }

// changed says who last changed a rule, and when, if the cloud tells.
type changed struct {
	At string `json:"at,omitempty"`
	By string `json:"by,omitempty"`
}

type routeRecord struct {
	To      string `json:"to"`
	Via     string `json:"via"`
	Account string `json:"account,omitempty"` // of the peered network, if it is another one
	Network string `json:"network,omitempty"`
	Address string `json:"address,omitempty"`
}

type interfaceRecord struct {
	ID       string   `json:"id"`
	Subnet   string   `json:"subnet"`
	Private  []string `json:"private"`
	Public   []string `json:"public,omitempty"`
	Groups   []string `json:"groups"`
	Filtered *bool    `json:"filtered,omitempty"`
}

type listenerRecord struct {
	Service string   `json:"service"`
	Targets []string `json:"targets"`
	Port    int      `json:"port"`
	Probe   string   `json:"probe,omitempty"`
}
