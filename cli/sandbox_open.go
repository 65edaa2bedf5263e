package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"

	"github.com/urfave/cli/v3"

	"isonomos/cloud/standin"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/store"
	"isonomos/work"
)

func (a *App) openCommand() *cli.Command {
	return &cli.Command{
		Name: "open",
		Metadata: takesArguments(3, 3, "takes a folder of stand-ins, a group and a service",
			"isonomos sandbox open clouds tides/quay/berth-ledger rdp"),
		Usage:     "open a port by hand, as somebody would who is in a hurry",
		ArgsUsage: "[flags] FOLDER GROUP SERVICE",
		Description: "Adds a rule to a group of stand-in clouds that run: it lets a service in from everybody, " +
			"or from " +
			"--from. It goes past all definitions, by the clouds' own interface, as " + handName +
			": to see what audit, " +
			"compare, draft and uphold make of that. The group is given by its full name.\n\n" +
			"  isonomos sandbox run clouds &\n" +
			"  isonomos sandbox open clouds tides/quay/berth-ledger rdp",
		Flags: []cli.Flag{&cli.StringFlag{Name: "from", Value: "0.0.0.0/0", Usage: "let it in from `RANGE`",
			Validator: isRangeOfAddresses}},
		Action: a.openByHand,
	}
}

// freeRank is the first rank that no inward rule of a group has.
func freeRank(g *estate.Group) int {
	rank := decide.Filter(g).Ranks[0]
	for slices.ContainsFunc(g.Rules, func(r estate.Rule) bool { return r.Direction == estate.In && r.Rank == rank }) {
		rank++
	}
	return rank
}

// handName is who opens ports by hand.
const handName = "r.sorrel"

func isRangeOfAddresses(text string) error {
	_, err := store.ParseRange(text)
	return err
}

func (a *App) openByHand(ctx context.Context, c *cli.Command) error {
	folder, name, asked := c.Args().Get(0), c.Args().Get(1), c.Args().Get(2)
	text, err := os.ReadFile(filepath.Join(folder, standin.StateFile))
	if err != nil {
		return fileError("file", filepath.Join(folder, standin.StateFile), err)
	}
	e, _, err := store.ReadSurvey(bytes.NewReader(text), filepath.Join(folder, standin.StateFile))
	if err != nil {
		return usage("%w", err)
	}
	var names []string
	var group *estate.Group
	for _, g := range e.Groups {
		if names = append(names, g.Path()); g.Path() == name {
			group = g
		}
	}
	if err := work.Known("group", []string{name}, names); err != nil {
		return err
	}
	set, err := work.Services(e, asked)
	if err != nil {
		return err
	}
	var services []string
	for _, s := range set.Specs() {
		services = append(services, s.String())
	}
	rule := map[string]any{"direction": "in", "peers": []string{c.String("from")}, "services": services}
	if decide.Filter(group).FirstMatch {
		rule["rank"] = freeRank(group)
	}
	body, err := json.Marshal(rule)
	if err != nil {
		return err
	}
	token, err := standin.TokenOf(folder, handName)
	if err != nil {
		return writeError(filepath.Join(folder, standin.TokensFile), err)
	}
	address := keptAddress(folder)
	if address == "" {
		return unreachable("no stand-in serves the folder %s: %s", folder, a.say(c)("sandbox", "run", folder))
	}
	url := fmt.Sprintf("http://%s/%s/v1/accounts/%s/groups/%s/rules", address, group.Account.Cloud.Name,
		group.Account.Name, group.ID)
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, url, bytes.NewReader(body))
	if err != nil {
		return unreachable("%w", err)
	}
	r.Header.Set("Authorization", "Bearer "+token)
	r.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return unreachable("no stand-in serves the folder %s any more: %w", folder, err)
	}
	defer answer.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(answer.Body, 1<<16))
	if answer.StatusCode != http.StatusCreated {
		return refused("the cloud says: %s %s", answer.Status, said)
	}
	a.note("%s has opened %s at %s from %s, past all definitions", handName, asked, name, c.String("from"))
	return nil
}
