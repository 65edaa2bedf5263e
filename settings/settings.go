// Package settings reads isonomos.toml, which stands beside the definitions.
package settings

import (
	"bytes"
	"errors"
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"isonomos/core/audit"
	"isonomos/core/near"
)

// File is the name of the file, in the folder of the definitions.
const File = "isonomos.toml"

// Settings are what the file says. The zero value of a setting means that it does not say.
type Settings struct {
	Path   string            `toml:"-"` // of the file; empty if there is none
	Uphold Uphold            `toml:"uphold"`
	Notify map[string]Notify `toml:"notify"`
}

// Uphold are the settings of watching.
type Uphold struct {
	Interval   Duration `toml:"interval"`
	BlindAfter Duration `toml:"blind-after"`
	LookAgain  Duration `toml:"look-again"`
	PutBack    string   `toml:"put-back"`
	Grace      Duration `toml:"grace"`
	Listen     string   `toml:"listen"`
	Log        string   `toml:"log"`
}

// Notify is a target that is told notices. Secrets are named by the environment variables that hold them.
type Notify struct {
	To          string   `toml:"to"`
	MailTo      []string `toml:"mail-to"`
	MailFrom    string   `toml:"mail-from"`
	User        string   `toml:"user"`
	PasswordEnv string   `toml:"password-env"`
	TokenEnv    string   `toml:"token-env"`
	Least       string   `toml:"least"`
	Only        string   `toml:"only"`
	PerMinute   int      `toml:"per-minute"` // beyond that, a summary; 0 means that it does not say
}

// A Duration is written like 30s, 5m or 2h.
type Duration struct{ time.Duration }

// UnmarshalText reads a duration above zero.
func (d *Duration) UnmarshalText(text []byte) error {
	x, err := time.ParseDuration(string(text))
	if err != nil || x <= 0 {
		return fmt.Errorf("%q is no duration like 30s, 5m or 2h", text)
	}
	d.Duration = x
	return nil
}

// name is what a target may be called.
var name = regexp.MustCompile(`^[a-z][a-z0-9-]*$`)

// mostBytes bounds the size of settings.
const mostBytes = 1 << 20

// Parse reads settings from text. Errors begin with the line and a colon.
func Parse(text []byte) (Settings, error) {
	var s Settings
	if len(text) > mostBytes {
		return s, fmt.Errorf("1: this is longer than %d bytes: that are no settings", mostBytes)
	}
	err := toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields().Decode(&s)
	var unknown *toml.StrictMissingError
	var wrong *toml.DecodeError
	switch {
	case errors.As(err, &unknown):
		first := unknown.Errors[0]
		line, _ := first.Position()
		return s, fmt.Errorf("%d: %w", line, unknownKey(first.Key()))
	case errors.As(err, &wrong):
		line, _ := wrong.Position()
		text := plain(strings.TrimPrefix(wrong.Error(), "toml: "))
		if len(wrong.Key()) > 0 {
			text = strings.Join(wrong.Key(), ".") + ": " + text
		}
		return s, fmt.Errorf("%d: %s", line, text)
	case err != nil: // of a duration that is written without quotes
		return s, fmt.Errorf("%d: %w", lineOfWrong(text), err)
	}
	return s, s.check(text)
}

// otherType is how the reader says that a value is of another type than its setting.
var otherType = regexp.MustCompile(`^cannot decode TOML (\S+) into .* of type (\S+)$`)

// plain says that a value is of the wrong type without the types of this program.
func plain(text string) string {
	m := otherType.FindStringSubmatch(text)
	if m == nil {
		return text
	}
	belongs, known := map[string]string{"string": `a text in quotes, such as "x"`, "int": "a number",
		"[]string":          `a list of texts, such as ["x"]`,
		"settings.Duration": `a duration in quotes, such as "30s"`}[m[2]]
	if !known {
		belongs = "something else"
	}
	return belongs + " belongs here, not this " + m[1]
}

// unknownKey says that there is no such setting, and which one is near.
func unknownKey(key []string) error {
	var known []string
	switch {
	case len(key) == 1:
		known = keysOf(reflect.TypeFor[Settings]())
	case key[0] == "uphold":
		known = keysOf(reflect.TypeFor[Uphold]())
	case key[0] == "notify":
		known = keysOf(reflect.TypeFor[Notify]())
	}
	last := key[len(key)-1]
	if best, ok := near.Best(last, known); ok {
		return fmt.Errorf("there is no setting %q: %q is near", strings.Join(key, "."), best)
	}
	return fmt.Errorf("there is no setting %q: there are %s", strings.Join(key, "."), strings.Join(known, ", "))
}

func keysOf(t reflect.Type) []string {
	var keys []string
	for f := range t.Fields() {
		if key := f.Tag.Get("toml"); key != "-" {
			keys = append(keys, key)
		}
	}
	return keys
}

// check says what is wrong with values.
func (s Settings) check(text []byte) error {
	at := func(table, key string) int { return lineOf(text, table, key) }
	if log := s.Uphold.Log; log != "" && log != "text" && log != "json" {
		return fmt.Errorf("%d: log is text or json, not %q", at("uphold", "log"), log)
	}
	for _, target := range s.Targets() {
		n, table := s.Notify[target], "notify."+target
		switch {
		case !name.MatchString(target):
			return fmt.Errorf("%d: a target is called by small letters, digits and hyphens, not %q", at(table, ""),
				target)
		case n.To == "":
			return fmt.Errorf("%d: [%s] does not say to whom (to = \"https://…\")", at(table, ""), table)
		case n.User != "" && n.PasswordEnv == "":
			return fmt.Errorf("%d: user needs password-env, the environment variable with the password",
				at(table, "user"))
		}
		if n.PerMinute < 0 {
			return fmt.Errorf("%d: per-minute is a number above 0", at(table, "per-minute"))
		}
		if _, ok := audit.ParseSeverity(n.Least); n.Least != "" && !ok {
			return fmt.Errorf("%d: least is one of %s, not %q", at(table, "least"),
				strings.Join(audit.SeverityNames(), ", "), n.Least)
		}
	}
	return nil
}

// lineOfWrong is the first line with a duration that is none.
func lineOfWrong(text []byte) int {
	for i, line := range strings.Split(string(text), "\n") {
		key, value, _ := strings.Cut(line, "=")
		var d Duration
		if slices.Contains([]string{"interval", "blind-after", "look-again", "grace"}, strings.TrimSpace(key)) &&
			d.UnmarshalText([]byte(strings.Trim(value, ` "'`))) != nil {
			return i + 1
		}
	}
	return 1
}

// lineOf is the line on which a key of a table stands, or the table begins; 1 if it is written in another way.
func lineOf(text []byte, table, key string) int {
	within, found := false, 1
	for i, line := range strings.Split(string(text), "\n") {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "[") {
			within = strings.Trim(line, "[] ") == table
		}
		before, _, _ := strings.Cut(line, "=")
		if within && (key == "" || strings.TrimSpace(before) == key) {
			return i + 1
		}
	}
	return found
}

// Targets are the names of the targets, sorted.
func (s Settings) Targets() []string {
	var names []string
	for name := range s.Notify {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}
