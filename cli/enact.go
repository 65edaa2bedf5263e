package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"isonomos/core/count"
	"isonomos/enact"
	"isonomos/store"
	"isonomos/work"
)

func init() { addCommand(140, (*App).enactCommand) }

func (a *App) enactCommand() *cli.Command {
	return &cli.Command{
		Name:      "enact",
		Metadata:  takesArguments(0, 1, "takes one draft", "isonomos enact draft.json"),
		Usage:     "carry a draft out",
		ArgsUsage: "[flags] [DRAFT]",
		Description: "Carries out exactly what a draft says (default: draft.json), or nothing: if the definitions " +
			"or the clouds have changed since, it refuses. Each step is written to the journal before its" +
			" request is sent, and its result after that. Accounts are changed side by side, each in the " +
			"order of its steps; stages wave by wave, each proved before the next begins. A run that is " +
			"broken off, at any moment, can be continued or undone.\n\n" +
			"  isonomos enact\n" +
			"  isonomos enact tides.json\n" +
			"  isonomos enact --resume\n\n" +
			"Exit 3 if it stopped on the way; it then says what has not been done. Exit 4 if it refused.",
		Flags: []cli.Flag{estateFlag(),
			&cli.BoolFlag{Name: "cut", Usage: "carry it out although it cuts off who was seen to need what it closes"},
			&cli.BoolFlag{Name: "allow-gaps", Usage: "carry it out although it stops, for some steps, what is " +
				"let through before and after"},
			&cli.StringFlag{Name: "digest", Usage: "carry the draft out only if its digest is `D`, as it was approved"},
			&cli.DurationFlag{Name: "draft-age", Value: 24 * time.Hour, Usage: "refuse a draft that is older than `T`"},
			&cli.BoolFlag{Name: "resume", Usage: "carry on the run that was broken off"},
			jobsFlag(), storeFlag()},
		Action: a.enact,
	}
}

func (a *App) enact(ctx context.Context, c *cli.Command) error {
	if err := a.without(c, "resume", "allow-gaps", "cut", "digest", "draft-age"); err != nil {
		return err
	}
	s, pasts, err := a.journal(c, true)
	if err != nil {
		return err
	}
	defer s.Close()
	open := work.OpenRun(pasts)
	if c.Bool("resume") {
		if c.Args().Present() {
			return usage("--resume carries on the run in the journal: it takes no draft")
		}
		if open == nil {
			return usage("there is no run to carry on: every one in the journal is at its end")
		}
		j, err := a.jobOf(c, open.Draft, pasts)
		if err != nil {
			return err
		}
		if j.Digest != open.Draft.Definitions {
			return refused("the run %s was begun with other definitions than those in %s: carry it on with "+
				"those, undo it (%s), or leave it as it is (%s)", open.Name, folderName(c.String("estate")),
				a.say(c)("repeal", open.Name), a.say(c)("repeal", "--give-up"))
		}
		return a.carryOut(ctx, c, s, j, open.Draft, open)
	}
	if open != nil {
		return a.brokenOff(c, open)
	}
	path := "draft.json"
	if c.Args().Present() {
		path = c.Args().First()
	}
	d, err := a.readDraft(c, path)
	if err != nil {
		return err
	}
	if err := a.asReviewed(c, d, path, pasts); err != nil {
		return err
	}
	follows, err := s.Follows(d.Journal)
	if err != nil {
		return refused("%v (%s)", err, storePath(c))
	}
	if !follows {
		return refused("%s was made when the journal in %s had the entry %d, which is gone: put the store back from a "+
			"copy that has it", path, storePath(c), d.Journal.Number)
	}
	j, err := a.jobOf(c, d, pasts)
	if err != nil {
		return err
	}
	if j.Digest != d.Definitions {
		return refused("the draft was made from other definitions than those in %s: make a new one: %s",
			folderName(c.String("estate")), a.say(c)("draft"))
	}
	return a.carryOut(ctx, c, s, j, d, nil)
}

func (a *App) readDraft(c *cli.Command, path string) (*enact.Draft, error) {
	file, err := openFile("draft", path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, mostDraft+1))
	if err != nil {
		return nil, fileError("draft", path, err)
	}
	if len(text) > mostDraft {
		return nil, usage("%s is longer than %d MB: that is no draft", path, mostDraft>>20)
	}
	var d, whole enact.Draft
	if err := json.Unmarshal(text, &d); err != nil {
		return nil, usage("%s is not a draft: %v", path, err)
	}
	if d.Version != enact.DraftVersion {
		return nil, usage("%s is not a draft of version %d: make one: %s", path, enact.DraftVersion, a.say(c)("draft"))
	}
	strict := json.NewDecoder(bytes.NewReader(text))
	strict.DisallowUnknownFields()
	if err := strict.Decode(&whole); err != nil {
		return nil, refused("%s is not as this program writes drafts (%v): make a new one: %s", path, err,
			a.say(c)("draft"))
	}
	return &d, nil
}

// mostDraft bounds the size of a draft in bytes.
const mostDraft = 256 << 20

// asReviewed refuses a draft that is not what was reviewed, or too old, or was carried out before.
func (a *App) asReviewed(c *cli.Command, d *enact.Draft, path string, pasts []*enact.Past) error {
	again := a.say(c)("draft")
	age := a.Now().Sub(d.Made)
	switch approved := c.String("digest"); {
	case d.Seal != d.Sealed() || d.Lanes == nil || d.EnactedBy != "":
		return refused("%s was changed after it was made: its digest is another one. Make a new one: %s", path, again)
	case approved != "" && approved != d.Seal:
		return refused("%s is not what was approved: its digest is %s", path, d.Seal)
	case age > c.Duration("draft-age"):
		return refused("%s was made %s ago, more than --draft-age: make a new one: %s", path, count.Lasting(age), again)
	case age < -time.Minute:
		return refused("%s says that it was made in the future (%s): make a new one: %s", path,
			d.Made.Format(time.RFC3339), again)
	}
	for _, p := range pasts {
		if p.Draft.Seal == d.Seal && !p.Unchanged() {
			return refused("%s was carried out already, by the run %s: make a new one: %s", path, p.Name, again)
		}
	}
	return nil
}

// journal opens the store and reads the runs from its journal.
func (a *App) journal(c *cli.Command, create bool) (*store.Store, []*enact.Past, error) {
	s, err := a.openStore(c, create)
	if err != nil {
		return nil, nil, err
	}
	if s == nil {
		return nil, nil, usage("there is no journal in %s yet: nothing was carried out from here", storePath(c))
	}
	pasts, err := enact.Pasts(s.Journal)
	if err != nil {
		s.Close()
		return nil, nil, refused("%v (%s)", err, storePath(c))
	}
	return s, pasts, nil
}

// jobOf is the job of a draft: to reach what the definitions say, or what was there before a run.
func (a *App) jobOf(c *cli.Command, d *enact.Draft, pasts []*enact.Past) (work.Job, error) {
	if d.Repeals == "" {
		return a.definedJob(c, d.Accounts, d.Adopts, pasts)
	}
	i := slices.IndexFunc(pasts, func(p *enact.Past) bool { return p.Name == d.Repeals })
	if i < 0 {
		return work.Job{}, usage("the draft undoes the run %s, which is not in the journal", d.Repeals)
	}
	return a.undoing(c, pasts[i])
}
