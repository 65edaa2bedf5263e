package render

import (
	"regexp"
	"strings"

	"isonomos/core/audit"
)

// A Say is how a command of the program is called so that it works where its words are
// pasted: with the folder, the survey and the evidence that are in use, each word as a
// shell takes it.
type Say func(words ...string) string

// inPlain is a word that a shell takes as it is.
var inPlain = regexp.MustCompile(`^[A-Za-z0-9_./:,@%+=-]+$`)

// Quoted is a word as a shell takes it. Characters that a terminal would obey are left
// out: a name that has them can't be pasted anyway.
func Quoted(word string) string {
	word = Clean(word)
	if inPlain.MatchString(word) {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}

// Plainly is a command without anything that is in use.
func Plainly(words ...string) string {
	text := "isonomos"
	for _, w := range words {
		text += " " + Quoted(w)
	}
	return text
}

// command is the command of a remedy, or nothing where somebody has to do it by hand.
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
	}
	return ""
}

// CheckFix is how what a check finds is done away with, with placeholders for what is found.
func CheckFix(r audit.Remedy) string {
	switch r.Kind {
	case audit.Narrow:
		return "isonomos narrow GROUP --flows FLOWS.csv proposes " + r.Words + "."
	case audit.Survey:
		return "Survey it again: isonomos survey; " + r.Words + ": --allow-unread ACCOUNT."
	}
	return r.Words
}

// remedy is a remedy in one line: its command, and what there is to say of it, which a
// shell leaves alone.
func (say Say) remedy(r audit.Remedy) string {
	command := say.command(r)
	if command == "" || r.Words == "" {
		return command + r.Words
	}
	return command + " # " + r.Words
}
