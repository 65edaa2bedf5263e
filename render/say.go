package render

import (
	"regexp"
	"strings"

	"isonomos/core/audit"
)

// A Say writes commands of the program so that they work when they are pasted: with the folder,
// survey and evidence that are in use, and each word quoted for a shell.
type Say func(words ...string) string

// inPlain matches words that a shell takes unchanged.
var inPlain = regexp.MustCompile(`^[A-Za-z0-9_./:,@%+=-]+$`)

// Quoted is a word, quoted for a shell. Characters that a terminal would obey are left out; a name
// with them can't be pasted anyway.
func Quoted(word string) string {
	word = Clean(word)
	if inPlain.MatchString(word) {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}

// Plainly writes a command without the flags in use.
func Plainly(words ...string) string {
	text := "isonomos"
	for _, w := range words {
		text += " " + Quoted(w)
	}
	return text
}

// command is the command of a remedy, or empty if a person has to act.
func (say Say) command(r audit.Remedy) string {
	if say == nil {
		say = Plainly
	}
	switch r.Kind {
	case audit.Narrow:
		return say("narrow", r.Target)
	case audit.Adopt:
		return say("adopt", r.Target)
	case audit.Draft:
		return say("draft")
	case audit.Survey:
		return say("survey")
	case audit.Shut:
		return say("pass", "end", "--overdue")
	}
	return ""
}

// CheckFix describes the remedy of a check, with placeholders for what is found.
func CheckFix(r audit.Remedy) string {
	switch r.Kind {
	case audit.Narrow:
		return "isonomos narrow GROUP --flows FLOWS.csv proposes " + r.Words + "."
	case audit.Survey:
		return "Survey it again: isonomos survey; " + r.Words + ": --allow-unread ACCOUNT."
	}
	return r.Words
}

// remedy is a remedy in one line: its command, with remarks as a comment of the shell.
func (say Say) remedy(r audit.Remedy) string {
	command := say.command(r)
	if command == "" || r.Words == "" {
		return command + r.Words
	}
	return command + " # " + r.Words
}
