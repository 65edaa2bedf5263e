package render

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"sync"
)

// A Log writes what a long run says, a line each: the time, what it is about, and a sentence. It is a slog.Handler; the
// attributes type, severity and place have columns of their own, all others stand behind the sentence.
type Log struct {
	mu     *sync.Mutex
	screen *Screen
	attrs  []slog.Attr
}

// NewLog writes to a window of a width in columns, or if that is 0 to a file, where lines are not wrapped.
func NewLog(out io.Writer, width int, colour bool) *Log {
	s := NewScreen(out, width, colour)
	if width == 0 {
		s.width = 1 << 20
	}
	return &Log{mu: new(sync.Mutex), screen: s}
}

// Enabled leaves out what is only for builders.
func (l *Log) Enabled(_ context.Context, level slog.Level) bool { return level >= slog.LevelInfo }

// WithAttrs adds attributes to all lines.
func (l *Log) WithAttrs(attrs []slog.Attr) slog.Handler {
	more := *l
	more.attrs = append(append([]slog.Attr{}, l.attrs...), attrs...)
	return &more
}

// WithGroup leaves groups out: names of attributes are unique here.
func (l *Log) WithGroup(string) slog.Handler { return l }

// Handle writes a line.
func (l *Log) Handle(_ context.Context, r slog.Record) error {
	kind := map[bool]string{true: "", false: strings.ToLower(r.Level.String())}[r.Level < slog.LevelWarn]
	severity, place := "", ""
	var rest []string
	note := func(a slog.Attr) bool {
		value := a.Value.String()
		switch {
		case a.Key == "type":
			kind = value
		case a.Key == "severity":
			severity = value
		case a.Key == "place":
			place = value
		case value == "" || value == "<nil>":
		case a.Key == "problem":
			rest = append(rest, value)
		default:
			rest = append(rest, a.Key+" "+value)
		}
		return true
	}
	for _, a := range l.attrs {
		note(a)
	}
	r.Attrs(note)
	style := Plain
	switch {
	case severity == "critical" || r.Level >= slog.LevelError:
		style = Hot
	case severity == "high" || severity == "medium" || severity == "" && r.Level >= slog.LevelWarn:
		style = Warm
	case kind == "resolved" || kind == "put-back":
		style = Cool
	}
	text := r.Message
	if severity != "" && severity != "info" {
		rest = append([]string{severity}, rest...)
	}
	if place != "" {
		text = place + ": " + text
	}
	if len(rest) > 0 {
		text += " (" + strings.Join(rest, "; ") + ")"
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	at := l.screen.styled(Piece{r.Time.UTC().Format("15:04:05"), Faint}) + "  "
	label := l.screen.styled(Piece{Pad(kind, 18), style}) + "  "
	const indent = 8 + 2 + 18 + 2
	for i, line := range wrap(within(Clean(text)), max(20, l.screen.width-indent)) {
		if i > 0 {
			at, label = "", strings.Repeat(" ", indent)
		}
		l.screen.write(fmt.Sprintf("%s%s%s\n", at, label, line))
	}
	return l.screen.err
}
