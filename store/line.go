package store

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/go-faster/jx"

	"isonomos/core/estate"
	"isonomos/core/service"
)

// A lineReader decodes lines. It remembers texts, labels, peers and services, so that equal ones
// share memory.
type lineReader struct {
	file     string // as in origins
	d        jx.Decoder
	texts    map[string]string
	labels   map[string]map[string]string
	peers    map[string]rawPeers
	services map[string][]service.Spec
	last     [slots]string // by field: texts that the next line often repeats
	line     line          // the line that was read last
}

// The fields whose texts often repeat.
const (
	lastKind = iota
	lastAccount
	lastNetwork
	lastGroup
	lastDirection
	lastAction
	lastDescription
	slots
)

// remembered bounds how many values of each kind a lineReader remembers.
const remembered = 1 << 16

func newLineReader() *lineReader {
	return &lineReader{texts: make(map[string]string), labels: make(map[string]map[string]string),
		peers: make(map[string]rawPeers), services: make(map[string][]service.Spec)}
}

// rawPeers are the peers of a rule before references are resolved: for each of refs there is a
// missing peer.
type rawPeers struct {
	peers  []estate.Peer
	masked []string // ranges with host bits, which were cleared
	refs   bool
}

// A line is one decoded line. Peers and services of a rule are in rawPeers and rawServices;
// everything else is in the record.
type line struct {
	record
	rawPeers    jx.Raw
	rawServices jx.Raw
}

// errShape says that a field has the wrong type; describe finds out which.
var errShape = errors.New("the line has another shape")

// read decodes a line into r, which must be empty. The error says what is wrong with it.
func (l *lineReader) read(text []byte, r *line) error {
	l.d.ResetBytes(text)
	err := l.d.ObjBytes(func(d *jx.Decoder, key []byte) error { return l.field(d, string(key), r) })
	if err == nil && l.d.Skip() != io.EOF {
		err = errShape
	}
	if err == nil {
		l.d.ResetBytes(text)
		return fieldsOnce(&l.d)
	}
	var again record // encoding/json says precisely what is wrong
	if precise := json.Unmarshal(text, &again); precise != nil {
		return describeJSON(precise)
	}
	return fmt.Errorf("the line is not JSON: %w", err)
}

// A ruleText is the line of a rule.
type ruleText struct {
	account, group, id, direction, action, description string
	rank                                               int
	stateless, builtIn                                 bool
	peers, services                                    jx.Raw
	changed                                            *changed
}

// ruleBegins begins the lines of most rules, which are most lines of a survey.
const ruleBegins = `{"kind":"rule"`

// readRule decodes the line of a rule in its most usual form: texts without escapes, no nesting
// beyond the two lists, no blanks. It reports false for all other lines, right or wrong, which read
// decodes. It takes a third of read's time.
func (l *lineReader) readRule(line []byte) (r ruleText, ok bool) {
	if !bytes.HasPrefix(line, []byte(ruleBegins)) {
		return r, false
	}
	rest := line[1:]
	seen := uint16(0)
	for {
		var key, value []byte
		if key, rest, ok = quoted(rest); !ok || len(rest) < 2 || rest[0] != ':' {
			return r, false
		}
		rest = rest[1:]
		switch rest[0] {
		case '"':
			if value, rest, ok = quoted(rest); !ok {
				return r, false
			}
			if twice(&seen, key) {
				return r, false // the other reader says so
			}
			switch string(key) {
			case "kind":
				ok = string(value) == "rule"
			case "account":
				r.account = l.recall(lastAccount, value)
			case "group":
				r.group = l.recall(lastGroup, value)
			case "id":
				r.id = valid(value)
			case "direction":
				r.direction = l.recall(lastDirection, value)
			case "action":
				r.action = l.recall(lastAction, value)
			case "description":
				r.description = l.recall(lastDescription, value)
			default:
				ok = !knownOfRules(key) // a field that rules have, but of another type
			}
		case '[':
			end := bytes.IndexByte(rest, ']')
			if end < 0 || bytes.ContainsAny(rest[1:end], "[{\\") {
				return r, false
			}
			value, rest = rest[:end+1], rest[end+1:]
			if twice(&seen, key) {
				return r, false
			}
			switch string(key) {
			case "peers":
				r.peers = value
			case "services":
				r.services = value
			default:
				return r, false
			}
			ok = bytes.Count(value, []byte{'"'})%2 == 0 // a bracket within a text would end the list too early
		default:
			end := bytes.IndexAny(rest, ",}")
			if end < 0 {
				return r, false
			}
			value, rest = rest[:end], rest[end:]
			if twice(&seen, key) {
				return r, false
			}
			switch string(key) {
			case "rank":
				r.rank, ok = number(value)
			case "stateless":
				r.stateless, ok = string(value) == "true", len(value) == 4 || string(value) == "false"
			case "built_in":
				r.builtIn, ok = string(value) == "true", len(value) == 4 || string(value) == "false"
			default:
				return r, false
			}
		}
		switch {
		case !ok || len(rest) == 0:
			return r, false
		case rest[0] == '}':
			return r, len(rest) == 1
		case rest[0] != ',':
			return r, false
		}
		rest = rest[1:]
	}
}

// ruleKeys are the fields of rules.
var ruleKeys = []string{"kind", "account", "group", "id", "direction", "action", "description", "rank", "stateless",
	"built_in", "peers", "services", "changed"}

// twice notes a field of a rule, and reports whether it was there before.
func twice(seen *uint16, key []byte) bool {
	for i, known := range ruleKeys {
		if string(key) == known {
			bit := uint16(1) << i
			before := *seen&bit != 0
			*seen |= bit
			return before
		}
	}
	return false
}

// FieldsOnce is an error for a JSON value in which an object has a field twice, at any depth: readers would take
// different ones.
func FieldsOnce(text []byte) error { return fieldsOnce(jx.DecodeBytes(text)) }

func fieldsOnce(d *jx.Decoder) error {
	switch d.Next() {
	case jx.Object:
		var keys []string
		err := d.ObjBytes(func(d *jx.Decoder, key []byte) error {
			keys = append(keys, string(key))
			return fieldsOnce(d)
		})
		slices.Sort(keys)
		for i := 1; i < len(keys) && err == nil; i++ {
			if keys[i] == keys[i-1] {
				err = fmt.Errorf("the field %q stands twice", keys[i])
			}
		}
		return err
	case jx.Array:
		return d.Arr(fieldsOnce)
	}
	return d.Skip()
}

// quoted takes a text off the front, if it is in quotes and without escapes.
func quoted(b []byte) (text, rest []byte, ok bool) {
	if len(b) < 2 || b[0] != '"' {
		return nil, nil, false
	}
	end := bytes.IndexByte(b[1:], '"') + 1
	if end == 0 || bytes.IndexByte(b[1:end], '\\') >= 0 {
		return nil, nil, false
	}
	return b[1:end], b[end+1:], true
}

// number reads a whole number of few digits.
func number(b []byte) (n int, ok bool) {
	if len(b) == 0 || len(b) > 9 || len(b) > 1 && b[0] == '0' {
		return 0, false
	}
	for _, c := range b {
		if c < '0' || c > '9' {
			return 0, false
		}
		n = 10*n + int(c-'0')
	}
	return n, true
}

func knownOfRules(key []byte) bool {
	switch string(key) {
	case "rank", "stateless", "built_in", "peers", "services", "changed":
		return true
	}
	return false
}

func (l *lineReader) field(d *jx.Decoder, key string, r *line) error {
	if d.Next() == jx.Null {
		return d.Skip()
	}
	switch key {
	case "kind":
		return l.like(d, lastKind, &r.Kind)
	case "account":
		return l.like(d, lastAccount, &r.Account)
	case "network":
		return l.like(d, lastNetwork, &r.Network)
	case "group":
		return l.like(d, lastGroup, &r.Group)
	case "id":
		return text(d, &r.ID)
	case "name":
		return text(d, &r.Name)
	case "version":
		return wholeNumber(d, &r.Version)
	case "taken":
		return text(d, &r.Taken)
	case "estate":
		return text(d, &r.Estate)
	case "dialect":
		return l.again(d, &r.Dialect)
	case "cloud":
		return l.again(d, &r.Cloud)
	case "region":
		return l.again(d, &r.Region)
	case "folder":
		return l.again(d, &r.Folder)
	case "labels":
		return l.labelled(d, &r.Labels)
	case "limits":
		r.Limits = make(map[string]int)
		return object(d, func(d *jx.Decoder, key string) error {
			n := 0
			err := wholeNumber(d, &n)
			r.Limits[key] = n
			return err
		})
	case "ranges":
		return l.list(d, &r.Ranges)
	case "answers":
		return text(d, &r.Answers)
	case "peers":
		return raw(d, &r.rawPeers)
	case "services":
		return raw(d, &r.rawServices)
	case "routes":
		return objects(d, &r.Routes, func(d *jx.Decoder, key string, x *routeRecord) error {
			switch key {
			case "to":
				return l.again(d, &x.To)
			case "via":
				return l.again(d, &x.Via)
			case "account":
				return l.again(d, &x.Account)
			case "network":
				return l.again(d, &x.Network)
			case "address":
				return text(d, &x.Address)
			}
			return d.Skip()
		})
	case "groups":
		return l.list(d, &r.Groups)
	case "type":
		return l.again(d, &r.Type)
	case "interfaces":
		return objects(d, &r.Interfaces, func(d *jx.Decoder, key string, x *interfaceRecord) error {
			switch key {
			case "id":
				return text(d, &x.ID)
			case "subnet":
				return l.again(d, &x.Subnet)
			case "private":
				return texts(d, &x.Private)
			case "public":
				return texts(d, &x.Public)
			case "groups":
				return l.list(d, &x.Groups)
			case "filtered":
				x.Filtered = new(bool)
				return truth(d, x.Filtered)
			}
			return d.Skip()
		})
	case "listeners":
		return objects(d, &r.Listeners, func(d *jx.Decoder, key string, x *listenerRecord) error {
			switch key {
			case "service":
				return l.again(d, &x.Service)
			case "targets":
				return texts(d, &x.Targets)
			case "port":
				return wholeNumber(d, &x.Port)
			case "probe":
				return l.again(d, &x.Probe)
			}
			return d.Skip()
		})
	case "for":
		return l.again(d, &r.For)
	case "description":
		return l.like(d, lastDescription, &r.Description)
	case "built_in":
		return truth(d, &r.BuiltIn)
	case "default":
		return truth(d, &r.Default)
	case "stateful":
		r.Stateful = new(bool)
		return truth(d, r.Stateful)
	case "direction":
		return l.like(d, lastDirection, &r.Direction)
	case "action":
		return l.like(d, lastAction, &r.Action)
	case "rank":
		return wholeNumber(d, &r.Rank)
	case "stateless":
		return truth(d, &r.Stateless)
	case "changed":
		r.Changed = new(changed)
		return l.change(d, r.Changed)
	case "owner":
		return l.again(d, &r.Owner)
	case "entries":
		return texts(d, &r.Entries)
	case "reason":
		return text(d, &r.Reason)
	case "capacity":
		return wholeNumber(d, &r.Capacity)
	}
	return d.Skip()
}

func (l *lineReader) change(d *jx.Decoder, into *changed) error {
	return object(d, func(d *jx.Decoder, key string) error {
		switch key {
		case "at":
			return text(d, &into.At)
		case "by":
			return l.again(d, &into.By)
		}
		return d.Skip()
	})
}

// valid replaces what is not UTF-8.
func valid(b []byte) string {
	if utf8.Valid(b) {
		return string(b)
	}
	return strings.ToValidUTF8(string(b), "\ufffd")
}

// text reads a text; null leaves it unchanged.
func text(d *jx.Decoder, into *string) error {
	b, ok, err := textBytes(d)
	if ok {
		*into = valid(b)
	}
	return err
}

func textBytes(d *jx.Decoder) (b []byte, ok bool, err error) {
	switch d.Next() {
	case jx.String:
		b, err = d.StrBytes()
		return b, err == nil, err
	case jx.Null:
		return nil, false, d.Skip()
	}
	return nil, false, errShape
}

// again reads a text that many lines repeat.
func (l *lineReader) again(d *jx.Decoder, into *string) error {
	b, ok, err := textBytes(d)
	if ok {
		*into = l.shared(b)
	}
	return err
}

func (l *lineReader) shared(b []byte) string {
	if known, ok := l.texts[string(b)]; ok {
		return known
	}
	s := valid(b)
	if len(l.texts) < remembered {
		l.texts[s] = s
	}
	return s
}

// like reads a text that the line before often has too.
func (l *lineReader) like(d *jx.Decoder, slot int, into *string) error {
	b, ok, err := textBytes(d)
	if ok {
		*into = l.recall(slot, b)
	}
	return err
}

// recall is the remembered text, if it is equal.
func (l *lineReader) recall(slot int, b []byte) string {
	if l.last[slot] != string(b) {
		l.last[slot] = l.shared(b)
	}
	return l.last[slot]
}

func wholeNumber(d *jx.Decoder, into *int) error {
	switch d.Next() {
	case jx.Number:
		n, err := d.Int()
		if err == nil {
			*into = n
		}
		return err
	case jx.Null:
		return d.Skip()
	}
	return errShape
}

func truth(d *jx.Decoder, into *bool) error {
	switch d.Next() {
	case jx.Bool:
		b, err := d.Bool()
		*into = b
		return err
	case jx.Null:
		return d.Skip()
	}
	return errShape
}

func array(d *jx.Decoder, each func(*jx.Decoder) error) error {
	if d.Next() != jx.Array {
		return errShape
	}
	return d.Arr(each)
}

func object(d *jx.Decoder, field func(d *jx.Decoder, key string) error) error {
	if d.Next() != jx.Object {
		return errShape
	}
	return d.ObjBytes(func(d *jx.Decoder, key []byte) error {
		if d.Next() == jx.Null {
			return d.Skip()
		}
		return field(d, string(key))
	})
}

func objects[T any](d *jx.Decoder, into *[]T, field func(d *jx.Decoder, key string, x *T) error) error {
	return array(d, func(d *jx.Decoder) error {
		var x T
		if d.Next() == jx.Null {
			*into = append(*into, x)
			return d.Skip()
		}
		err := object(d, func(d *jx.Decoder, key string) error { return field(d, key, &x) })
		*into = append(*into, x)
		return err
	})
}

// texts reads a list of texts; null in it is an empty text.
func texts(d *jx.Decoder, into *[]string) error {
	return array(d, func(d *jx.Decoder) error {
		s := ""
		err := text(d, &s)
		*into = append(*into, s)
		return err
	})
}

// list is texts for values that many lines repeat.
func (l *lineReader) list(d *jx.Decoder, into *[]string) error {
	return array(d, func(d *jx.Decoder) error {
		s := ""
		err := l.again(d, &s)
		*into = append(*into, s)
		return err
	})
}

func raw(d *jx.Decoder, into *jx.Raw) error {
	if d.Next() != jx.Array {
		return errShape
	}
	var err error
	*into, err = d.Raw()
	return err
}

// labelled reads labels. Equal ones share a map, which must not be changed.
func (l *lineReader) labelled(d *jx.Decoder, into *map[string]string) error {
	if d.Next() != jx.Object {
		return errShape
	}
	text, err := d.Raw()
	if err != nil {
		return err
	}
	if known, ok := l.labels[string(text)]; ok {
		*into = known
		return nil
	}
	made := make(map[string]string)
	err = object(jx.DecodeBytes(text), func(d *jx.Decoder, key string) error {
		var v string
		err := l.again(d, &v)
		made[l.shared([]byte(key))] = v
		return err
	})
	if err == nil && len(l.labels) < remembered {
		l.labels[string(text)] = made
	}
	*into = made
	return err
}

// describeJSON says what is wrong with a line, without the decoder's vocabulary.
func describeJSON(err error) error {
	var syntax *json.SyntaxError
	var mismatch *json.UnmarshalTypeError
	switch {
	case errors.As(err, &mismatch) && mismatch.Field != "":
		return fmt.Errorf("the field %q holds %s where %s belongs", mismatch.Field, jsonValue(mismatch),
			jsonKind(mismatch))
	case errors.As(err, &mismatch):
		return fmt.Errorf("a survey's line is an object in braces, this is %s", jsonValue(mismatch))
	case errors.As(err, &syntax):
		return fmt.Errorf("the line is not JSON: %v (at byte %d)", syntax, syntax.Offset)
	}
	return fmt.Errorf("the line is not JSON: %w", err)
}

// jsonValue names the kind of value that was found, in the words of jsonKind.
func jsonValue(m *json.UnmarshalTypeError) string {
	switch kind, _, _ := strings.Cut(m.Value, " "); kind {
	case "array":
		return "a list"
	case "object":
		return "an object"
	case "string":
		return "a text"
	case "bool":
		return "true or false"
	default:
		return "the " + m.Value
	}
}

func jsonKind(m *json.UnmarshalTypeError) string {
	switch kind := m.Type.Kind().String(); kind {
	case "int", "uint16":
		return "a whole number"
	case "slice":
		return "a list"
	case "map", "struct":
		return "an object"
	case "bool":
		return "true or false"
	default:
		return "a text"
	}
}
