package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"isonomos/cloud/standin"
	"isonomos/core/estate"
	"isonomos/demo"
	"isonomos/nomos/resolve"
	"isonomos/store"
)

func (a *App) standinCommand() *cli.Command {
	return &cli.Command{
		Name: "run",
		Metadata: ownUnread(takesArguments(1, 1,
			"needs one folder for the clouds' state", "isonomos sandbox run clouds")),
		Usage:     "serve stand-in clouds from a folder",
		ArgsUsage: "[flags] FOLDER",
		Description: "Serves the clouds of a survey through the open interface (docs/cloud.openapi.json), on this " +
			"machine only. Their state is in FOLDER/state.jsonl; if you change that file, the change is " +
			"served. The token is in FOLDER/token; the one in FOLDER/token-read may only read. FOLDER/env sets " +
			"the variables by which the demo estate" +
			" finds its clouds.\n\n" +
			"  isonomos sandbox run clouds &\n" +
			"  . clouds/env && isonomos survey --estate harbour --to harbour/survey.jsonl",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "survey", Usage: "begin with what is in a survey `FILE` (default: the demo " +
				"estate); a folder that has a state keeps it"},
			&cli.StringFlag{Name: "listen", Value: "127.0.0.1:0", Usage: "listen at `ADDRESS` of this machine; " +
				"port 0 takes a free one, or the one that the folder had before"},
		},
		Action: a.runStandin,
	}
}

func (a *App) faultCommand() *cli.Command {
	return &cli.Command{
		Name:      "fault",
		Metadata:  takesArguments(1, 1, "needs one folder of stand-in clouds", "isonomos sandbox fault clouds"),
		Usage:     "make stand-in clouds misbehave",
		ArgsUsage: "[flags] FOLDER",
		Description: "Makes the stand-in clouds of a folder, running or not, misbehave in a share of all requests:" +
			" 429 (too many requests), 500, drop (the connection is closed), slow, stale (an answer from " +
			"before the last change). The same seed makes the same faults.\n\n" +
			"  isonomos sandbox fault --share 0.2 --seed 7 clouds\n" +
			"  isonomos sandbox fault --share 0 clouds",
		Flags: []cli.Flag{
			&cli.FloatFlag{Name: "share", Value: 0.2, Usage: "misbehave in this `SHARE` of all requests, from 0 to 1"},
			&cli.StringSliceFlag{Name: "kind",
				Usage: "only in this `WAY` (may be given again): " + strings.Join(standin.Kinds, ", ")},
			&cli.IntFlag{Name: "seed", Value: 1, Usage: "another `SEED` makes other faults", Validator: notNegative},
		},
		Action: func(_ context.Context, c *cli.Command) error {
			folder := c.Args().First()
			if _, err := os.Stat(filepath.Join(folder, standin.StateFile)); err != nil {
				return usage("there are no stand-in clouds in %s: %s makes some", folder,
					a.say(c)("sandbox", "run", folder))
			}
			kinds := c.StringSlice("kind")
			if len(kinds) == 0 {
				kinds = standin.Kinds
			}
			if err := standin.SetFaults(folder, uint64(c.Int("seed")), c.Float("share"), kinds); err != nil {
				return usage("%w", err)
			}
			if c.Float("share") == 0 {
				a.note("the clouds in %s behave", folder)
				return nil
			}
			a.note("the clouds in %s misbehave in %s %% of all requests: %s", folder,
				strconv.FormatFloat(100*c.Float("share"), 'g', -1, 64), strings.Join(kinds, ", "))
			return nil
		},
	}
}

func (a *App) runStandin(ctx context.Context, c *cli.Command) error {
	folder := c.Args().First()
	host, _, err := net.SplitHostPort(c.String("listen"))
	if ip := net.ParseIP(host); err != nil || ip == nil || !ip.IsLoopback() {
		return usage("--listen %q is not an address of this machine alone, such as 127.0.0.1:8080: the stand-in "+
			"speaks without TLS", c.String("listen"))
	}
	listen := c.String("listen")
	if kept := keptAddress(folder); kept != "" && !a.given("listen") {
		listen = kept
	}
	web, listener, clouds, err := a.openStandin(folder, c.String("survey"), listen)
	if err != nil {
		return err
	}
	collectForLong(100)
	base := "http://" + listener.Addr().String()
	a.note("serving %s at %s; for a shell: . %s", strings.Join(clouds, ", "), base, filepath.Join(folder, "env"))
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
	defer stop()
	context.AfterFunc(ctx, func() {
		end, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		_ = web.Shutdown(end) // requests that are still being answered are cut off
	})
	if err := web.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return unreachable("%w", err)
	}
	return nil
}

// openStandin opens the stand-in clouds of a folder and listens at an address. Where the folder has
// no state yet it begins with a survey. It also returns the names of the clouds.
func (a *App) openStandin(folder, survey, listen string) (web *http.Server, listener net.Listener, clouds []string,
	err error) {
	if err := a.layState(folder, survey); err != nil {
		return nil, nil, nil, err
	}
	server, err := standin.Open(folder)
	if err != nil {
		return nil, nil, nil, unreachable("the clouds in %s can't be served: %v", folder, err)
	}
	if clouds, err = server.Clouds(); err != nil {
		return nil, nil, nil, unreachable("%w", err)
	}
	if listener, err = net.Listen("tcp", listen); err != nil && listen == keptAddress(folder) {
		listener, err = net.Listen("tcp", "127.0.0.1:0") // another process has taken the port meanwhile
	}
	if err != nil {
		return nil, nil, nil, unreachable("nothing can listen at %s: %v", listen, err)
	}
	base := "http://" + listener.Addr().String()
	if err := writeWhole([]newFile{{path: filepath.Join(folder, environmentFile),
		text: environment(folder, base, clouds)}}); err != nil {
		listener.Close()
		return nil, nil, nil, err
	}
	byOurClock := func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Date", a.Now().UTC().Format(http.TimeFormat))
		server.ServeHTTP(w, r)
	}
	web = &http.Server{Handler: http.HandlerFunc(byOurClock), ReadHeaderTimeout: 10 * time.Second}
	return web, listener, clouds, nil
}

// environmentFile is the file in a folder of stand-in clouds that a shell can read to find them.
const environmentFile = "env"

// keptAddress is the address at which the clouds of a folder were served last, so that whoever
// knows it finds them there again; empty the first time.
func keptAddress(folder string) string {
	text, err := os.ReadFile(filepath.Join(folder, environmentFile))
	if err != nil {
		return ""
	}
	_, rest, _ := strings.Cut(string(text), "=http://")
	address, _, _ := strings.Cut(rest, "/")
	if at, err := netip.ParseAddrPort(address); err != nil || !at.Addr().IsLoopback() {
		return ""
	}
	return address
}

// environment writes shell commands that set the clouds' addresses, and read their token from its
// file.
func environment(folder, base string, clouds []string) string {
	token := filepath.Join(folder, standin.TokenFile)
	if whole, err := filepath.Abs(token); err == nil {
		token = whole
	}
	var b strings.Builder
	for _, name := range clouds {
		variable := resolve.VariableOf(name)
		fmt.Fprintf(&b, "export %s_URL=%s/%s\nexport %s_TOKEN=$(cat '%s')\n", variable, base, name, variable,
			strings.ReplaceAll(token, "'", `'\''`))
	}
	return b.String()
}

// layState writes the initial state of stand-in clouds into a folder that has none.
func (a *App) layState(folder, survey string) error {
	path := filepath.Join(folder, standin.StateFile)
	if _, err := os.Stat(path); err == nil {
		if survey != "" {
			return usage("%s has its own state already: leave --survey out, or name another folder", folder)
		}
		return nil
	} else if !errors.Is(err, fs.ErrNotExist) {
		return fileError("file", path, err)
	}
	var e *estate.Estate
	var err error
	if survey != "" {
		e, err = a.readSurvey(survey)
	} else {
		e, err = demo.Survey()
	}
	if err != nil {
		return err
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return writeError(folder, err)
	}
	return writeStream(path, func(w io.Writer) error { return store.WriteSurvey(w, e) })
}
