package settings

import (
	"strings"
	"testing"
	"time"
)

// Every mistake is told with its line and a way out.
func TestMistakes(t *testing.T) {
	for text, want := range map[string]string{
		"[uphold]\nintervall = \"30s\"":                         `2: there is no setting "uphold.intervall": "interval" is near`,
		"[upold]\ninterval = \"30s\"":                           `"uphold" is near`,
		"[uphold]\n\ninterval = \"soon\"":                       `3: `,
		"[uphold]\ninterval = \"-1s\"":                          "no duration like 30s",
		"[uphold]\ninterval = 30":                               `2: `,
		"[uphold]\nlog = \"xml\"":                               `2: log is text or json, not "xml"`,
		"[notify.desk]\nleast = \"high\"":                       "1: [notify.desk] does not say to whom",
		"[notify.Desk]\nto = \"stdout\"":                        "small letters",
		"[notify.desk]\nto = \"stdout\"\nleast = \"loud\"":      `3: least is one of info, low`,
		"[notify.desk]\nto = \"smtp://h:25\"\nmail-too = []":    `3: there is no setting "notify.desk.mail-too": "mail-to" is near`,
		"[notify.desk]\nto = \"smtp://h:25\"\nuser = \"watch\"": `3: user needs password-env`,
		"[notify.desk]\nto = 5":                                 `2: notify.desk.to: a text in quotes, such as "x" belongs here, not this integer`,
		"[notify.desk]\nto = \"stdout\"\nmail-to = \"a@b\"":     `3: notify.desk.mail-to: a list of texts`,
		"[notify.desk]\nto = \"stdout\"\nper-minute = \"ten\"":  `3: notify.desk.per-minute: a number belongs here`,
		"[notify]\ndesk = \"stdout\"":                           `2: notify.desk: `,
		"[uphold\n":                                             `1: `,
		"[uphold]\nx = ":                                        `2: `,
		strings.Repeat("#\n", mostBytes/2+1):                    "that are no settings",
		"colour = true\n":                                       `1: there is no setting "colour"`,
	} {
		if _, err := Parse([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.100q: %v, want %s", text, err, want)
		}
	}
}

func TestParse(t *testing.T) {
	s, err := Parse([]byte("[uphold]\ninterval = \"45s\"\n[notify.night]\nto = \"smtp://mail.example:25\"\n" +
		"mail-to = [\"night@harbour.example\"]\nleast = \"high\"\n[notify.desk]\nto = \"stdout\"\n"))
	if err != nil || s.Uphold.Interval.Duration != 45*time.Second || s.Notify["night"].MailTo[0] !=
		"night@harbour.example" || strings.Join(s.Targets(), " ") != "desk night" {
		t.Errorf("%+v %v", s, err)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("[uphold]\ninterval = \"45s\"\n[notify.a]\nto = \"stdout\"\n"))
	f.Add([]byte("[notify]\na = 1\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		if _, err := Parse(text); err != nil && strings.TrimSpace(err.Error()) == "" {
			t.Error("an error says nothing")
		}
	})
}
