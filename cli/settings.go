package cli

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"isonomos/core/count"
	"isonomos/nomos"
	"isonomos/render"
	"isonomos/settings"
)

// A known setting, with the variable that goes before the file, and what is usual.
type knownSetting struct {
	name, variable, about, usual string
	inFile                       func(settings.Settings) string
}

func durationText(d settings.Duration) string {
	if d.Duration == 0 {
		return ""
	}
	return shortDuration(d.Duration)
}

// shortDuration is a duration as one is written: 30s, 5m, 1h.
func shortDuration(d time.Duration) string {
	text := d.String()
	if strings.HasSuffix(text, "m0s") {
		text = strings.TrimSuffix(text, "0s")
	}
	if strings.HasSuffix(text, "h0m") {
		text = strings.TrimSuffix(text, "0m")
	}
	return text
}

// knownSettings are all settings but those of targets, which have names of their own.
var knownSettings = []knownSetting{
	{"uphold.interval", "ISONOMOS_INTERVAL", "between two looks at an account whose cloud has no feed",
		shortDuration(usualInterval), func(s settings.Settings) string { return durationText(s.Uphold.Interval) }},
	{"uphold.blind-after", "ISONOMOS_BLIND_AFTER", "how long an account may be unread until that is told",
		shortDuration(usualBlindAfter), func(s settings.Settings) string { return durationText(s.Uphold.BlindAfter) }},
	{"uphold.look-again", "ISONOMOS_LOOK_AGAIN", "how often everything is read, feed or not",
		shortDuration(usualLookAgain), func(s settings.Settings) string { return durationText(s.Uphold.LookAgain) }},
	{"uphold.put-back", "ISONOMOS_PUT_BACK", "where what was changed by hand is put back: all, or a condition on " +
		"labels",
		"nowhere", func(s settings.Settings) string { return s.Uphold.PutBack }},
	{"uphold.grace", "ISONOMOS_GRACE", "how long it stands until then", "0s",
		func(s settings.Settings) string { return durationText(s.Uphold.Grace) }},
	{"uphold.listen", "ISONOMOS_LISTEN", "where /healthz, /readyz and /metrics are served", "nowhere",
		func(s settings.Settings) string { return s.Uphold.Listen }},
	{"uphold.log", "ISONOMOS_LOG", "the form of the log: text or json", "text",
		func(s settings.Settings) string { return s.Uphold.Log }},
}

// readSettings reads the settings beside definitions; without a file they are all unset.
func (a *App) readSettings(path string) (settings.Settings, error) {
	folder := folderOf(path)
	shown := filepath.Join(folder, settings.File)
	within, err := lookInside(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return settings.Settings{}, nil // who needs definitions has said so
	}
	if err != nil {
		return settings.Settings{}, fileError("folder", folder, err)
	}
	defer within.Close()
	file, err := nomos.ReadFile(within, settings.File, shown)
	var refusal *nomos.RefusedError
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return settings.Settings{}, nil
	case errors.As(err, &refusal):
		return settings.Settings{}, refused("%v; put the settings themselves there, or take it away", refusal)
	case err != nil:
		return settings.Settings{}, fileError("file", shown, err)
	}
	set, err := settings.Parse([]byte(file.Text))
	if err != nil {
		return set, usage("%s:%w", shown, err)
	}
	set.Path = shown
	return set, nil
}

// explainSettings shows all settings, with the value in force and where it comes from.
func (a *App) explainSettings(c *cli.Command, s *render.Screen) error {
	folder := folderOf(c.String("estate"))
	set, err := a.readSettings(folder)
	if err != nil {
		return err
	}
	s.Line(render.Piece{Text: "settings", Style: render.Accent},
		render.Piece{Text: "  of " + filepath.Join(folder, settings.File), Style: render.Faint})
	if set.Path == "" {
		s.Text(2, "there is no such file: what is usual counts")
	}
	s.Text(2, "A flag of the same name goes before a variable of the environment, and that before the file.")
	s.Blank()
	show := func(name, value, from, about string) {
		s.Line(render.Piece{Text: "  " + render.Pad(name, 22)}, render.Piece{Text: render.Pad(value, 10),
			Style: render.Strong},
			render.Piece{Text: "  " + from, Style: render.Faint})
		s.Text(24, about)
	}
	for _, x := range knownSettings {
		value, from := x.usual, "usual"
		if text := x.inFile(set); text != "" {
			value, from = text, set.Path
		}
		if text := os.Getenv(x.variable); text != "" {
			value, from = text, x.variable
		}
		show(x.name, value, from, x.about)
	}
	for _, name := range set.Targets() {
		n := set.Notify[name]
		about := "from " + orAnything(n.Least) + " on"
		if n.Only != "" {
			about += ", only where " + n.Only
		}
		if len(n.MailTo) > 0 {
			about += ", by mail to " + count.Some(n.MailTo, 3)
		}
		show("notify."+name, n.To, set.Path, about)
	}
	if len(set.Targets()) == 0 {
		s.Text(2, "nobody is told: [notify.NAME] with to = \"https://…\", \"smtp://…\", \"syslog://…\" or "+
			"\"stdout\" names "+
			"who is")
	}
	return s.Err()
}

func orAnything(least string) string {
	if least == "" {
		return "info"
	}
	return least
}
