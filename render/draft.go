package render

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"isonomos/core/count"
	"isonomos/enact"
)

// whereOf is the place of a shift.
func whereOf(x enact.Shift) string {
	if x.Group != "" {
		return x.Group
	}
	return someOf(x.Instances, 4)
}

// shownShifts and shownSteps bound what is shown of a draft. Its file contains everything.
const (
	shownShifts = 12
	shownSteps  = 24
)

// besideGroups warns of traffic that other groups let through beside those of the draft, and shows
// the definition that would stop it.
func besideGroups(s *Screen, all []enact.Bypass) {
	for i, b := range all {
		label := Piece{"bypassed", Warm}
		if i > 0 {
			label.Text = ""
		}
		s.Labelled(0, label, findingIndent, Piece{Text: b.Says})
		if b.Write == "" {
			continue
		}
		s.Text(findingIndent, "to end it, write:")
		for line := range strings.Lines(b.Write) {
			s.Line(Piece{Text: strings.Repeat(" ", findingIndent+2) + strings.TrimRight(line, "\n"), Style: Accent})
		}
	}
}

// Draft shows a prepared change: what opens, what closes, further remarks, then the steps.
func Draft(s *Screen, d *enact.Draft, path string, say Say) {
	if d.Steps() == 0 {
		text := "nothing to do: the clouds let through what they should"
		if len(d.Left) > 0 {
			text = "nothing to do in what is marked as ours"
		}
		s.Line(Piece{text, Cool})
		weakerThanBefore(s, d.Weaker)
		leftAlone(s, d.Left)
		toAdopt(s, d, say)
		besideGroups(s, d.Bypassed)
		return
	}
	if n := len(d.Cut.Needed()); n > 0 {
		s.Line(Piece{"CUTS", Hot}, Piece{" what " + Count(n, "user was seen to need", "users were seen to need") +
			": see observed", Strong})
	}
	s.Line(Piece{Count(d.Steps(), "step", "steps"), Strong}, Piece{" in ", Plain},
		Piece{Count(len(d.Changes()), "account", "accounts"), Strong}, Piece{whatFor(d), Plain})
	s.Blank()
	shifts(s, "opens", Hot, d.Traffic.Opens)
	shifts(s, "closes", Cool, d.Traffic.Closes)
	if len(d.Traffic.Opens)+len(d.Traffic.Closes) == 0 {
		s.Line(Piece{"no traffic opens or closes today", Cool})
		s.Blank()
	}
	Gaps(s, d)
	held(s, d)
	observedCuts(s, d)
	for i, q := range d.Quotas {
		if i == shownShifts {
			s.Text(findingIndent, "and "+Count(len(d.Quotas)-i, "more group", "more groups"))
			break
		}
		label := Piece{"quotas", Strong}
		if i > 0 {
			label.Text = ""
		}
		s.Labelled(0, label, findingIndent, Piece{Text: quotaLine(q)})
	}
	s.Blank()
	draftSteps(s, d)
	weakerThanBefore(s, d.Weaker)
	byMark(s, d.ByMark)
	leftAlone(s, d.Left)
	toAdopt(s, d, say)
	besideGroups(s, d.Bypassed)
	s.Blank()
	if path != "" {
		s.Labelled(0, Piece{"digest", Strong}, findingIndent, Piece{d.Seal, Faint})
		s.Whole(0, Piece{"next", Strong}, findingIndent, Piece{nextText(d, path, say), Accent})
	}
}

func nextText(d *enact.Draft, path string, say Say) string {
	words := []string{"enact"}
	if d.Gaps() > 0 {
		words = append(words, "--allow-gaps")
	}
	if len(d.Cut.Needed()) > 0 {
		words = append(words, "--cut")
	}
	if path != "draft.json" {
		words = append(words, path)
	}
	return say(words...)
}

func whatFor(d *enact.Draft) string {
	if d.Repeals != "" {
		return ", which undo the run " + d.Repeals
	}
	return ""
}

func shifts(s *Screen, word string, style Style, list []enact.Shift) {
	for i, x := range list {
		if i == shownShifts {
			s.Line(Piece{Pad(word, findingIndent), style},
				Piece{"in " + Count(len(list)-i, "more place", "more places"), Plain})
			s.Blank()
			return
		}
		s.Line(Piece{Pad(word, findingIndent), style}, Piece{whereOf(x), Accent},
			Piece{map[string]string{"in": "  inward", "out": "  outward"}[x.Direction], Faint})
		s.Text(findingIndent, x.Traffic)
		s.Labelled(findingIndent, Piece{"for example", Faint}, findingLabel, Piece{Text: x.Example})
		if len(x.Instances) > 0 && x.Group != "" {
			s.Labelled(findingIndent, Piece{"instances", Faint}, findingLabel, Piece{Text: someOf(x.Instances, 6)})
		}
		if len(x.Rules) > 0 {
			s.Labelled(findingIndent, Piece{"by", Faint}, findingLabel, Piece{Text: someOf(x.Rules, 4)})
		}
		s.Blank()
	}
}

// Gaps shows what a draft stops during some steps.
func Gaps(s *Screen, d *enact.Draft) {
	for _, l := range d.Lanes {
		for _, g := range l.Gaps {
			s.Line(Piece{Pad("GAP", findingIndent), Hot}, Piece{strings.Join(l.Accounts, ", "), Accent},
				Piece{fmt.Sprintf("  from step %d to step %d, %s", g.After, g.Until,
					Count(g.Until-g.After, "request", "requests")), Plain})
			s.Text(findingIndent, "stopped meanwhile, though it is let through before and after: "+g.Traffic)
			s.Labelled(findingIndent, Piece{"instances", Faint}, findingLabel, Piece{Text: someOf(g.Instances, 6)})
			s.Blank()
		}
	}
}

// undecidedText says how many expectations can't be decided.
func undecidedText(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(", %d undecided after", n)
}

func held(s *Screen, d *enact.Draft) {
	before, after, unsure := 0, 0, 0
	for _, x := range d.Expects {
		if x.Unsure {
			unsure++
		}
		if x.Before {
			before++
		}
		if x.After {
			after++
		}
	}
	if len(d.Expects) == 0 {
		return
	}
	s.Labelled(0, Piece{"expects", Strong}, findingIndent,
		Piece{Text: fmt.Sprintf("%d of %s before, %d after", before,
			Count(len(d.Expects), "expectation holds", "expectations hold"), after) + undecidedText(unsure)})
	for _, x := range d.Expects {
		if !x.After {
			word := "does not hold, before and after"
			style := Plain
			switch {
			case x.Before && x.Unsure:
				word, style = "holds before and is UNDECIDED after", Hot
			case x.Before:
				word, style = "holds before and NOT after", Hot
			case x.Unsure:
				word = "is undecided after"
			}
			s.Text(findingIndent, fmt.Sprintf("%s:%d: %s", x.File, x.Line, x.Text))
			s.Labelled(findingIndent, Piece{}, 2, Piece{word, style})
		}
	}
}

// observedCuts tells who was seen to use what would be cut: those that are needed one by one, all others by why they
// are not taken for needed.
func observedCuts(s *Screen, d *enact.Draft) {
	if !d.Cut.Looked {
		return
	}
	lines, more := cutLines(&d.Cut, shownShifts)
	if len(lines) == 0 {
		s.Labelled(0, Piece{"observed", Strong}, findingIndent, Piece{Text: "no flow that was seen would be cut"})
	}
	style := Plain
	if len(d.Cut.Needed()) > 0 {
		style = Hot
	}
	for i, line := range lines {
		label := Piece{"observed", Strong}
		if i > 0 {
			label.Text = ""
		}
		s.Labelled(0, label, findingIndent, Piece{Text: line, Style: style})
		style = Plain
	}
	if more > 0 {
		s.Text(findingIndent, fmt.Sprintf("and %s more: the draft's file has all of them (cut.users)", Number(more)))
	}
}

// cutLines say what would be cut, with so many of those that are needed; more is how many of these are left out.
func cutLines(c *enact.Cut, most int) (lines []string, more int) {
	needed := c.Needed()
	if len(needed) > 0 {
		lines = append(lines, Count(len(needed), "use that was seen and is needed",
			"uses that were seen and are needed")+" would be cut:")
	}
	for i, u := range needed {
		if i == most {
			more = len(needed) - i
			break
		}
		lines = append(lines, fmt.Sprintf("%s → %s %s  (%s on %s, last %s)", u.Who, u.To, u.Service,
			Count(u.Flows, "flow", "flows"), Count(u.Days, "day", "days"), u.Last))
	}
	for _, some := range c.Others() {
		flows, to := 0, make(map[string]bool)
		for _, u := range some {
			flows += u.Flows
			to[u.To] = true
		}
		lines = append(lines, fmt.Sprintf("%s: %s of %s to %s", some[0].Judged, Count(flows, "flow", "flows"),
			Count(len(some), "user", "users"), count.Some(slices.Sorted(maps.Keys(to)), 3)))
	}
	return lines, more
}

func quotaLine(q enact.Quota) string {
	most := "no limit"
	if q.Most > 0 {
		most = fmt.Sprintf("%s allowed", Number(q.Most))
	}
	return fmt.Sprintf("%s %s: %s, then %s (%s)", q.Group, q.Per, Count(q.Before, "rule", "rules"), Number(q.After),
		most)
}

func draftSteps(s *Screen, d *enact.Draft) {
	shown := 0
	for _, l := range d.Lanes {
		if len(l.Steps) == 0 {
			continue
		}
		s.Line(Piece{fmt.Sprintf("wave %d  ", l.Wave), Strong}, Piece{strings.Join(l.Accounts, ", "), Accent},
			Piece{"  " + l.Stage, Faint})
		for k := range l.Steps {
			if shown == shownSteps {
				s.Text(2, fmt.Sprintf("and %s; the draft's file has all",
					Count(d.Steps()-shown, "more step", "more steps")))
				return
			}
			shown++
			x := &l.Steps[k]
			s.Labelled(2, Piece{fmt.Sprintf("%d", k+1), Faint}, 4, Piece{Text: x.Says + effect(x)})
		}
	}
}

func effect(x *enact.Step) string {
	switch {
	case x.Opens && x.Closes:
		return "  (opens, closes)"
	case x.Opens:
		return "  (opens)"
	case x.Closes:
		return "  (closes)"
	}
	return ""
}

func leftAlone(s *Screen, left []string) {
	for i, text := range left {
		if i == 0 {
			s.Blank()
			s.Line(Piece{"left alone", Strong})
		}
		if i == shownShifts {
			s.Text(2, fmt.Sprintf("and %s more", Number(len(left)-i)))
			break
		}
		s.Text(2, text)
	}
}

// Enacted tells what a finished run has changed: traffic first, not rules.
func Enacted(s *Screen, d *enact.Draft, run string, took time.Duration, say Say) {
	word := "enacted"
	if d.Repeals != "" {
		word = "repealed"
	}
	s.Line(Piece{Pad(word, findingIndent), Strong},
		Piece{fmt.Sprintf("%s in %s, proved, in %s", Count(d.Steps(), "step", "steps"),
			Count(len(d.Changes()), "account", "accounts"), took.Round(10*time.Millisecond)), Plain})
	for _, x := range []struct {
		word  string
		style Style
		list  []enact.Shift
	}{{"opened", Hot, d.Traffic.Opens}, {"closed", Cool, d.Traffic.Closes}} {
		for i, shift := range x.list {
			if i == shownShifts {
				s.Line(Piece{Pad(x.word, findingIndent), x.style},
					Piece{"in " + Count(len(x.list)-i, "more place", "more places"), Plain})
				break
			}
			s.Labelled(0, Piece{x.word, x.style}, findingIndent, Piece{Text: whereOf(shift) + ": " + shift.Traffic})
		}
	}
	if len(d.Traffic.Opens)+len(d.Traffic.Closes) == 0 {
		s.Labelled(0, Piece{"traffic", Strong}, findingIndent, Piece{Text: "the same as before"})
	}
	s.Labelled(0, Piece{"run", Strong}, findingIndent, Piece{Text: run})
	s.Whole(0, Piece{"undo", Strong}, findingIndent, Piece{say("repeal", run), Accent})
}

// byMark tells what is changed on its mark alone.
func byMark(s *Screen, groups []string) {
	const shown = 5
	if len(groups) == 0 {
		return
	}
	s.Blank()
	s.Labelled(0, Piece{"by mark", Warm}, findingIndent, Piece{Text: fmt.Sprintf("the journal does not know %s: %s. "+
		"They are defined and bear our mark, so they may be changed; nothing is detached, emptied or deleted for it",
		Count(len(groups), "group or list", "groups and lists"), count.Some(groups, shown))})
}

// toAdopt shows how what is left alone is taken for ours: by the mark that it gets then, or for what bears the mark,
// by being deleted.
func toAdopt(s *Screen, d *enact.Draft, say Say) {
	for _, x := range []struct {
		word  string
		names []string
	}{{"adopt", d.CanAdopt}, {"delete", d.Strays}} {
		if len(x.names) == 0 {
			continue
		}
		s.Whole(0, Piece{x.word, Strong}, findingIndent, Piece{draftAdopting(d, x.names[0], say), Accent})
		if n := len(x.names) - 1; n > 0 {
			s.Text(findingIndent, "or in the same way "+count.Some(x.names[1:], shownShifts))
		}
	}
}

// draftAdopting is the command that makes a draft again and adopts one more group or list in it.
func draftAdopting(d *enact.Draft, name string, say Say) string {
	words := []string{"draft"}
	for _, x := range d.Accounts {
		words = append(words, "--account", x)
	}
	for _, x := range append(slices.Clip(d.Adopts), name) {
		words = append(words, "--adopt", x)
	}
	return say(words...)
}

// Stopped tells where a run stopped, what has not been done, and what to type next.
func Stopped(s *Screen, e *enact.StoppedError, d *enact.Draft, run string, say Say) {
	word, text := "STOPPED", fmt.Sprintf("%s of %s done", Number(e.Done), Count(e.Of, "step is", "steps are"))
	switch {
	case e.Outcome == enact.Overtaken && e.Done == e.Of:
		text = "carried out, but not what is there: somebody else has changed something meanwhile"
	case e.Outcome == enact.Overtaken:
		text += "; somebody else has changed what was to follow"
	case e.Unchanged:
		text += ", and nothing was changed"
	}
	s.Line(Piece{Pad(word, findingIndent), Hot}, Piece{text, Strong})
	var later []string
	for _, x := range e.Stops {
		where := strings.Join(x.Accounts, ", ")
		text := where + ", before its first step"
		switch {
		case x.NotBegun:
			later = append(later, where)
			continue
		case x.Proof:
			text = where + ": all steps are done"
		case x.Step > 0:
			sure := "is not done"
			if x.Unsure {
				sure = "may be done or not"
			}
			text = fmt.Sprintf("%s, at step %d of %d, which %s: %s", where, x.Step, x.Of, sure, x.Says)
		}
		s.Text(findingIndent, text)
		s.Labelled(findingIndent, Piece{"why", Faint}, 5, Piece{Text: x.Err.Error()})
	}
	if len(later) > 0 {
		s.Text(findingIndent, "not begun, because an earlier wave stopped: "+strings.Join(later, "; "))
	}
	next := func(label string, words ...string) {
		s.Whole(0, Piece{label, Strong}, findingIndent, Piece{say(words...), Accent})
	}
	switch {
	case d.Repeals != "" && e.Unchanged && e.Outcome == enact.Stopped: // it is as if it had not begun
		next("undo", "repeal", d.Repeals)
	case e.Outcome == enact.Overtaken || e.Unchanged:
		next("next", "draft")
	case d.Repeals != "":
		next("carry on", "repeal")
	default:
		next("carry on", "enact", "--resume")
		next("undo", "repeal", run)
	}
}

// Runs lists what was carried out.
func Runs(s *Screen, pasts []*enact.Past) {
	if len(pasts) == 0 {
		s.Line(Piece{"nothing was carried out yet", Plain})
		return
	}
	entries := 0
	for _, p := range pasts {
		entries += len(p.Entries)
		outcome, style := outcomeOf(p)
		s.Line(Piece{p.Name, Accent}, Piece{"  " + strings.Replace(p.Began()[:19], "T", " ", 1) + " UTC  ", Faint},
			Piece{fmt.Sprintf("%s of %s  ", Number(p.Done()), Count(p.Draft.Steps(), "step", "steps")), Plain},
			Piece{outcome, style})
	}
	s.Blank()
	s.Line(Piece{fmt.Sprintf("%s in the journal; its chain holds", Count(entries, "entry", "entries")), Cool})
}

// outcomeOf says what became of a run.
func outcomeOf(p *enact.Past) (string, Style) {
	outcome, style := "broken off", Hot
	switch {
	case !p.Open() && p.Unchanged() && (p.Ended == nil || p.Ended.Outcome == enact.Stopped):
		return "stopped before it changed anything", Plain
	case p.Ended != nil && p.Ended.Outcome == enact.Overtaken:
		outcome, style = "overtaken by somebody else's change", Warm
	case p.Ended != nil && p.Ended.Outcome != enact.Stopped:
		outcome, style = p.Ended.Outcome, Plain
	case p.Ended != nil:
		outcome = p.Ended.Outcome
	}
	if len(p.Draft.Passes) > 0 {
		return outcome + ", passes " + strings.Join(p.Draft.Passes, ", "), style
	}
	if u := p.Draft.Upholds; u != nil {
		if len(u.Laws) == 0 {
			return outcome + ", puts back what was decided", style
		}
		return outcome + ", enforces " + strings.Join(u.Laws, ", "), style
	}
	if p.Draft.Repeals != "" {
		if outcome != enact.Repealed {
			outcome += ", undoing"
		}
		outcome += " " + p.Draft.Repeals
	}
	return outcome, style
}

// DraftMarkdown writes a draft for a review comment: traffic first, steps folded.
func DraftMarkdown(w io.Writer, d *enact.Draft) error {
	var b strings.Builder
	fmt.Fprintf(&b, "### Draft for %s: %s in %s\n\n", mark(d.Estate), Count(d.Steps(), "step", "steps"),
		Count(len(d.Changes()), "account", "accounts"))
	if n := len(d.Cut.Needed()); n > 0 {
		fmt.Fprintf(&b, "**Cuts what %s**: see *observed*.\n\n",
			Count(n, "user was seen to need", "users were seen to need"))
	}
	for _, x := range []struct {
		word string
		list []enact.Shift
	}{{"**opens**", d.Traffic.Opens}, {"closes", d.Traffic.Closes}} {
		for _, shift := range x.list {
			fmt.Fprintf(&b, "- %s %s: %s (%s)\n", mark(whereOf(shift)), x.word, mark(shift.Traffic),
				mark(shift.Example))
		}
	}
	for _, text := range d.Weaker {
		fmt.Fprintf(&b, "- weaker: %s\n", mark(text))
	}
	if len(d.Traffic.Opens)+len(d.Traffic.Closes) == 0 {
		b.WriteString("No traffic opens or closes today.\n")
	}
	for _, l := range d.Lanes {
		for _, g := range l.Gaps {
			fmt.Fprintf(&b, "- **gap** in %s, from step %d to step %d: %s\n", mark(strings.Join(l.Accounts, ", ")),
				g.After, g.Until, mark(g.Traffic))
		}
	}
	if lines, _ := cutLines(&d.Cut, len(d.Cut.Users)); d.Cut.Looked {
		if len(lines) == 0 {
			lines = []string{"no flow that was seen would be cut"}
		}
		for _, line := range lines {
			fmt.Fprintf(&b, "- observed: %s\n", mark(line))
		}
	}
	for _, x := range d.Expects {
		if x.Before != x.After || !x.After {
			after := fmt.Sprint(x.After)
			if x.Unsure {
				after = "undecided"
			}
			fmt.Fprintf(&b, "- expects `%s:%d` before: %v, after: %s\n", mark(x.File), x.Line, x.Before, after)
		}
	}
	for _, q := range d.Quotas {
		fmt.Fprintf(&b, "- quota: %s\n", mark(quotaLine(q)))
	}
	for _, name := range d.ByMark {
		fmt.Fprintf(&b, "- **by mark**: the journal does not know %s; it is defined and bears our mark\n", mark(name))
	}
	b.WriteString("\n<details><summary>Steps</summary>\n\n")
	for _, l := range d.Lanes {
		fmt.Fprintf(&b, "Wave %d, %s\n\n", l.Wave, mark(strings.Join(l.Accounts, ", ")))
		for k := range l.Steps {
			fmt.Fprintf(&b, "%d. %s\n", k+1, mark(l.Steps[k].Says+effect(&l.Steps[k])))
		}
		b.WriteByte('\n')
	}
	b.WriteString("</details>\n")
	for _, text := range d.Left {
		fmt.Fprintf(&b, "\nLeft alone: %s\n", mark(text))
	}
	for _, x := range d.Bypassed {
		fmt.Fprintf(&b, "\n**Bypassed**: %s\n", mark(x.Says))
		if x.Write != "" {
			fmt.Fprintf(&b, "\nTo end it, write:\n\n    %s\n", strings.ReplaceAll(x.Write, "\n", "\n    "))
		}
	}
	for _, x := range []struct {
		says  string
		names []string
	}{{"Can be adopted (`draft --adopt NAME`)", d.CanAdopt},
		{"Bear our mark, and nobody knows them (`draft --adopt NAME` deletes them)", d.Strays}} {
		if len(x.names) > 0 {
			fmt.Fprintf(&b, "\n%s: %s\n", x.says, mark(strings.Join(x.names, ", ")))
		}
	}
	if d.Seal != "" {
		fmt.Fprintf(&b, "\nDigest: `%s`\n", d.Seal)
	}
	_, err := io.WriteString(w, b.String())
	return err
}
