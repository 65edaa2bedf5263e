package work

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"isonomos/cloud"
	"isonomos/core/count"
	"isonomos/core/estate"
	"isonomos/store"
)

// Reading clouds into a survey.

// A Surveyor reads the accounts of the clouds that definitions name.
type Surveyor struct {
	Definitions *estate.Estate
	Environment func(name string) string // addresses and tokens are taken from it
	Clouds      []string                 // only these; empty means all
	Accounts    []string                 // only these; empty means all
	Jobs        int                      // accounts that are read at the same time; 0 means DefaultJobs
	Now         func() time.Time
	Note        func(format string, a ...any)                   // called with remarks for the user
	Counting    func(what string, of int) (step, finish func()) // shows progress
	Slow        func(text string)                               // called when a cloud keeps silent; may be nil
}

// DefaultJobs is how many accounts are read at the same time by default.
const DefaultJobs = 16

// A Tally is what was read.
type Tally struct {
	Accounts, Groups, Rules, Instances int
	Unread                             []estate.Unread
}

// Complete reports whether everything was read.
func (t Tally) Complete() bool { return len(t.Unread) == 0 }

// Add counts what is in an estate.
func (t *Tally) Add(e *estate.Estate) {
	t.Accounts += len(e.Accounts)
	t.Groups += len(e.Groups)
	t.Instances += len(e.Instances)
	for _, g := range e.Groups {
		t.Rules += len(g.Rules)
	}
}

func (t Tally) String() string {
	text := fmt.Sprintf("surveyed: %s, %s, %s, %s", count.Of(t.Accounts, "account", "accounts"),
		count.Of(t.Groups, "group", "groups"), count.Of(t.Rules, "rule", "rules"),
		count.Of(t.Instances, "instance", "instances"))
	const shown = 5
	for i, u := range t.Unread {
		if i == shown {
			text += fmt.Sprintf("\nand %d more", len(t.Unread)-shown)
			break
		}
		text += fmt.Sprintf("\nnot read: %s (%s)", u.Name(), u.Reason)
	}
	return text
}

// A Reading is what a Surveyor is going to read.
type Reading struct {
	by       Surveyor
	clouds   []*estate.Cloud
	accounts []toRead
}

// A toRead is an account to read, or the reason why that is impossible: of an account, or of a whole cloud.
type toRead struct {
	from    cloud.Cloud
	account string
	cloud   string // where nothing is known of its accounts
	reason  string
}

// Plan finds the accounts to read. A cloud that can't list its accounts is noted; those of its
// accounts that are defined count as not read, or the cloud if none is.
func (s Surveyor) Plan(ctx context.Context) (*Reading, error) {
	plan := &Reading{by: s}
	var err error
	if plan.clouds, err = s.clouds(); err != nil {
		return nil, err
	}
	for _, x := range plan.clouds {
		list, err := s.accountsOf(ctx, x)
		if err != nil {
			s.Note("the cloud %s can't be surveyed: %v", x.Name, err)
		}
		plan.accounts = append(plan.accounts, list...)
	}
	if len(s.Accounts) > 0 {
		var known []string
		for _, x := range plan.accounts {
			known = append(known, x.account)
		}
		if err := Known("account", s.Accounts, known); err != nil {
			return nil, err
		}
		plan.accounts = slices.DeleteFunc(plan.accounts,
			func(x toRead) bool { return !slices.Contains(s.Accounts, x.account) })
	}
	if len(plan.accounts) == 0 {
		return nil, unreachable("no account could be read: there is nothing to look at")
	}
	return plan, nil
}

// clouds are the defined clouds that are asked for.
func (s Surveyor) clouds() ([]*estate.Cloud, error) {
	all := s.Definitions.Clouds
	if len(all) == 0 {
		return nil, wrong("the definitions name no cloud: write cloud NAME { dialect … at … token env … }")
	}
	if len(s.Clouds) == 0 {
		return all, nil
	}
	var known []string
	for _, x := range all {
		known = append(known, x.Name)
	}
	if err := Known("cloud", s.Clouds, known); err != nil {
		return nil, err
	}
	return slices.DeleteFunc(slices.Clone(all),
		func(x *estate.Cloud) bool { return !slices.Contains(s.Clouds, x.Name) }), nil
}

// Reach makes the client of a cloud, as its definition says: for OpenStack Networking if it has a
// profile, else for the open interface.
func (s Surveyor) Reach(x *estate.Cloud) (cloud.Cloud, error) {
	r := x.Reach
	address := r.At
	switch {
	case r.Profile != "" && r.At == "":
		var projects []cloud.Project
		for _, a := range s.Definitions.Accounts {
			if a.Cloud == x {
				projects = append(projects, cloud.Project{Account: a.Name, ID: a.ID, Region: a.Region})
			}
		}
		o, err := s.options()
		return cloud.NewOpenStack(x.Name, r.Profile, projects).With(o), err
	case r.At == "":
		return nil, errors.New("its definition does not say where it is: at env NAME, or profile NAME")
	case r.AtEnv:
		if address = s.Environment(r.At); address == "" {
			return nil, fmt.Errorf("the environment variable %s, which has its address, is not set", r.At)
		}
	}
	token := ""
	if r.TokenEnv != "" {
		if token = strings.TrimSpace(s.Environment(r.TokenEnv)); token == "" {
			return nil, fmt.Errorf("the environment variable %s, which has its token, is not set", r.TokenEnv)
		}
	}
	o, err := s.options()
	if err != nil {
		return nil, err
	}
	return cloud.NewClient(address, token, o)
}

// options are how clients behave: what the environment sets for how much is read of an account, and for how long a
// request may take.
func (s Surveyor) options() (o cloud.Options, err error) {
	number := func(name string) int64 {
		if s.Environment == nil {
			return 0
		}
		text := s.Environment(name)
		n, wrong := strconv.ParseInt(text, 10, 62)
		if text != "" && (wrong != nil || n <= 0) && err == nil {
			err = fmt.Errorf("the environment variable %s is %q, which is no number above 0", name, text)
		}
		return n
	}
	o.Most = cloud.Limits{Objects: int(number("ISONOMOS_MOST_OBJECTS")), Bytes: number("ISONOMOS_MOST_BYTES")}
	o.Timeout = time.Duration(number("ISONOMOS_REQUEST_SECONDS")) * time.Second
	o.Slow = s.Slow
	return o, err
}

// accountsOf are the accounts of a cloud: those that it lists, and those that are defined and not
// listed.
func (s Surveyor) accountsOf(ctx context.Context, x *estate.Cloud) ([]toRead, error) {
	var defined []string
	for _, account := range s.Definitions.Accounts {
		if account.Cloud == x {
			defined = append(defined, account.Name)
		}
	}
	unread := func(err error) ([]toRead, error) {
		var list []toRead
		if len(defined) == 0 {
			list = append(list, toRead{cloud: x.Name, reason: err.Error()})
		}
		for _, name := range defined {
			list = append(list, toRead{account: name, reason: err.Error()})
		}
		return list, err
	}
	from, err := s.Reach(x)
	if err != nil {
		return unread(err)
	}
	dialect, err := from.Dialect(ctx)
	if err == nil && dialect != x.Dialect {
		err = fmt.Errorf("it is said to be %s and calls itself %q", x.Dialect, dialect)
	}
	if err != nil {
		return unread(err)
	}
	shown, err := from.Accounts(ctx)
	if err == nil && len(shown)+len(defined) == 0 {
		err = errors.New("it shows no account to this token")
	}
	if err != nil {
		return unread(err)
	}
	var list []toRead
	for _, name := range shown {
		list = append(list, toRead{from: from, account: name})
	}
	for _, name := range defined {
		if !slices.Contains(shown, name) {
			list = append(list, toRead{account: name, reason: "the cloud shows no such account to this token"})
		}
	}
	return list, nil
}

// An accountRead is the result of reading an account.
type accountRead struct {
	lines []byte
	found Tally
	err   error
}

// Read reads the accounts, several at the same time, and writes them as a survey, in order. An
// account that can't be read is written with the reason; if none can be read, nothing is written.
// The amount of data that waits to be written is bounded by the number of accounts that are read at
// the same time.
func (plan *Reading) Read(ctx context.Context, w io.Writer) (Tally, error) {
	s := plan.by
	var told Tally
	head := store.HeadLines(s.Definitions.Name, s.Now(), plan.clouds)
	var held bytes.Buffer // written once the first account has been read
	held.WriteString(head)
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	results := make(chan chan accountRead, cmp.Or(s.Jobs, DefaultJobs))
	go func() {
		defer close(results)
		for _, x := range plan.accounts {
			done := make(chan accountRead, 1)
			select {
			case results <- done: // blocks if too many results wait to be written
			case <-ctx.Done():
				return
			}
			go func() { done <- x.read(ctx, head) }()
		}
	}()
	step, finish := s.Counting("reading accounts", len(plan.accounts))
	defer finish()
	i := 0
	for done := range results {
		r := <-done
		x := plan.accounts[i]
		i++
		step()
		lines := r.lines
		if r.err != nil {
			u := estate.Unread{Account: x.account, Cloud: x.cloud, Reason: r.err.Error()}
			told.Unread = append(told.Unread, u)
			lines = []byte(store.UnreadLine(u))
		} else {
			told.Accounts += r.found.Accounts
			told.Groups += r.found.Groups
			told.Rules += r.found.Rules
			told.Instances += r.found.Instances
		}
		held.Write(lines)
		if told.Accounts > 0 {
			if _, err := held.WriteTo(w); err != nil {
				return told, err
			}
		}
	}
	if told.Accounts == 0 && ctx.Err() == nil {
		first, more := told.Unread[0], ""
		if n := len(told.Unread) - 1; n > 0 {
			more = fmt.Sprintf(", and %d more", n)
		}
		return told, unreachable("no account could be read: %s (%s)%s; nothing was written", first.Name(),
			first.Reason, more)
	}
	return told, ctx.Err()
}

// read reads one account and checks that the result can be understood, so that it can't spoil the
// rest of the survey.
func (x toRead) read(ctx context.Context, head string) accountRead {
	if x.from == nil {
		return accountRead{err: errors.New(x.reason)}
	}
	lines, err := x.from.Survey(ctx, x.account)
	if err != nil {
		return accountRead{err: err}
	}
	surveyed, _, err := store.ReadSurvey(strings.NewReader(head+string(lines)), x.account)
	if err == nil && (len(surveyed.Accounts) != 1 || surveyed.Accounts[0].Name != x.account) {
		err = errors.New("the answer is not about this account alone")
	}
	r := accountRead{lines: lines, err: err}
	if err == nil {
		r.found.Add(surveyed)
	}
	return r
}
