package enact

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"isonomos/cloud"
	"isonomos/store"
)

// A slowCloud takes names as often as one likes and adds rules to whatever version a
// group has. What it is asked first it carries out late, and nobody hears the answer.
type slowCloud struct {
	cloud.Cloud
	late time.Duration
	once bool

	mu     sync.Mutex
	asked  int
	groups map[string][]json.RawMessage // each with its rules
}

func (c *slowCloud) Once() bool { return c.once }

func (c *slowCloud) Settle(context.Context, string, cloud.Ref, string) (string, error) {
	return "", nil
}

func (c *slowCloud) Read(_ context.Context, _ string, of cloud.Ref) (cloud.Object, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	lines, there := c.groups[of.ID]
	if !there {
		return cloud.Object{}, cloud.ErrGone
	}
	return cloud.Object{ID: of.ID, Version: fmt.Sprint(len(lines)), Lines: lines}, nil
}

func (c *slowCloud) Named(_ context.Context, _, kind, name string) (refs []cloud.Ref, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for id, lines := range c.groups {
		var l line
		if json.Unmarshal(lines[0], &l) == nil && l.Name == name {
			refs = append(refs, cloud.Ref{Kind: kind, ID: id})
		}
	}
	return refs, nil
}

func (c *slowCloud) Change(ctx context.Context, r cloud.Request, _ string) (cloud.Object, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.asked++
	if c.asked == 1 && c.late > 0 {
		time.AfterFunc(c.late, func() {
			c.mu.Lock()
			defer c.mu.Unlock()
			c.carryOut(r, "first")
		})
		return cloud.Object{}, errors.New("the connection was lost")
	}
	return c.carryOut(r, "next"), nil
}

func (c *slowCloud) carryOut(r cloud.Request, id string) cloud.Object {
	if r.Do == "create-group" {
		var asked line
		_ = json.Unmarshal(r.Object, &asked)
		c.groups[id] = raws(fmt.Sprintf(`{"kind":"group","account":"a","id":%q,"name":%q,"labels":%s}`, id, asked.Name,
			encode(asked.Labels)))
		return cloud.Object{ID: id, Version: "1", Lines: c.groups[id]}
	}
	rule := raws(fmt.Sprintf(
		`{"kind":"rule","account":"a","group":"g","id":%q,"peers":["::/0"],"services":["tcp 22"]}`, id))
	c.groups["g"] = append(c.groups["g"], rule...)
	return cloud.Object{ID: "g", Version: fmt.Sprint(len(c.groups["g"])), Lines: rule}
}

// A pad is a journal in memory.
type pad []store.Entry

func (p *pad) Append(at time.Time, run, kind string, body any) (store.Entry, error) {
	text, err := json.Marshal(body)
	*p = append(*p, store.Entry{Number: len(*p) + 1, At: at.UTC().Format(time.RFC3339Nano), Run: run, Kind: kind,
		Body: text})
	return (*p)[len(*p)-1], err
}

// A request whose answer was lost, and that arrives late, is not carried out twice where
// the cloud itself would do so: within a run, and by one that carries on another.
func TestLateRequestsAreNotDoneTwice(t *testing.T) {
	synctest.Test(t, lateRequests) // in a time of its own, so that a busy machine is not slow
}

func lateRequests(t *testing.T) {
	const group = `{"kind":"group","account":"a","id":"g","name":"db"}`
	for name, step := range map[string]Step{
		"a group is made": {Request: cloud.Request{Do: "create-group", Account: "a", ID: "new:1",
			Object: json.RawMessage(`{"kind":"group","account":"a","id":"new:1","name":"web"}`)}},
		"a rule is added": {Request: cloud.Request{Do: "add-rules", Account: "a", ID: "g",
			Rules: raws(
				`{"kind":"rule","account":"a","group":"g","id":"new:2","peers":["::/0"],"services":["tcp 22"]}`)}},
		"the name is ours": {Request: cloud.Request{Do: "create-group", Account: "a", ID: "new:1",
			Object: json.RawMessage(`{"kind":"group","account":"a","id":"new:1","name":"db"}`)}},
	} {
		for _, killed := range []bool{false, true} {
			c := &slowCloud{late: 40 * time.Second, groups: map[string][]json.RawMessage{"g": raws(group)}}
			d := &Draft{Version: DraftVersion,
				Objects: []Touched{{Account: "a", Kind: "group", ID: "g", Before: raws(group)}},
				Lanes:   []Lane{{Accounts: []string{"a"}, Wave: 1, Steps: []Step{step}}}}
			var journal pad
			run := &Run{Name: "r", Draft: d, Journal: &journal, Now: time.Now, Jobs: 1, Pace: 2 * time.Millisecond,
				Clouds: func(string) (cloud.Cloud, error) { return c, nil }}
			if killed { // the request was sent, and then there was nobody any more
				sent := step.Request
				if sent.Object != nil {
					sent.Object = bearing(sent.Object, run.madeBy([2]int{1, 1}))
				}
				if _, err := journal.Append(time.Now(), "r", Intend, Intention{1, 1, sent, 60}); err != nil {
					t.Fatal(err)
				}
				if err := run.Recall(journal); err != nil {
					t.Fatal(err)
				}
				_, _ = c.Change(t.Context(), sent, "")
			}
			if err := run.Do(t.Context()); err != nil {
				t.Fatalf("%s: %v", name, err)
			}
			time.Sleep(time.Minute)
			if n := len(c.groups) + len(c.groups["g"]); n != 3 || c.asked != 1 {
				t.Errorf("%s, killed %v: asked %d times, there is %s", name, killed, c.asked, c.groups)
			}
		}
	}
	// Where it is called off meanwhile, it says that it may have been done.
	c := &slowCloud{late: time.Second, groups: map[string][]json.RawMessage{"g": raws(group)}}
	d := &Draft{Version: DraftVersion,
		Lanes: []Lane{{Accounts: []string{"a"}, Wave: 1,
			Steps: []Step{{Request: cloud.Request{Do: "create-group", Account: "a", ID: "new:1",
				Object: json.RawMessage(`{"kind":"group","account":"a","id":"new:1","name":"web"}`)}}}}}}
	ctx, stop := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer stop()
	run := &Run{Name: "r", Draft: d, Journal: new(pad), Now: time.Now, Jobs: 1,
		Clouds: func(string) (cloud.Cloud, error) { return c, nil }}
	var stopped *StoppedError
	if err := run.Do(ctx); !errors.As(err, &stopped) || len(stopped.Stops) != 1 || !stopped.Stops[0].Unsure {
		t.Errorf("called off: %+v", err)
	}
}

// What a run made is told by what only the run can have written: a group of the same name, mark and description that
// somebody else has made is never taken for it, and one that bears the step's writing and is not as it was asked for
// has been changed by somebody else.
func TestOnlyOwnWritingIsOurs(t *testing.T) {
	const asked = `{"kind":"group","account":"a","id":"new:1","name":"web","description":"d","labels":{"isonomos":"x"}}`
	step := Step{Request: cloud.Request{Do: "create-group", Account: "a", ID: "new:1", Object: json.RawMessage(asked)}}
	for _, x := range []struct {
		there string // in the cloud, beside whatever the run makes
		found bool   // it is the run's
		bad   bool   // somebody else has changed it
	}{
		{`{"id":"s","name":"web","description":"d","labels":{"isonomos":"x"}}`, false, false},
		{`{"id":"s","name":"web","description":"d","labels":{"isonomos":"x","isonomos-made":"r.1.2"}}`, false, false},
		{`{"id":"s","name":"web","description":"d","labels":{"isonomos":"x","isonomos-made":"q.1.1"}}`, false, false},
		{`{"id":"s","name":"web","description":"d","labels":{"isonomos":"x","isonomos-made":"r.1.1"}}`, true, false},
		{`{"id":"s","name":"web","description":"d","labels":{"isonomos-made":"r.1.1"}}`, false, true},
		{`{"id":"s","name":"web","description":"other","labels":{"isonomos":"x","isonomos-made":"r.1.1"}}`, false, true},
		{`{"id":"s","name":"web","network":"n","description":"d","labels":{"isonomos":"x","isonomos-made":"r.1.1"}}`,
			false, true},
	} {
		synctest.Test(t, func(t *testing.T) {
			there := strings.Replace(x.there, "{", `{"kind":"group","account":"a",`, 1)
			c := &slowCloud{groups: map[string][]json.RawMessage{"s": raws(there)}}
			d := &Draft{Version: DraftVersion, Lanes: []Lane{{Accounts: []string{"a"}, Wave: 1, Steps: []Step{step}}}}
			var journal pad
			run := &Run{Name: "r", Draft: d, Journal: &journal, Now: time.Now, Jobs: 1,
				Clouds: func(string) (cloud.Cloud, error) { return c, nil }}
			if _, err := journal.Append(time.Now(), "r", Intend, Intention{Lane: 1, Step: 1}); err != nil {
				t.Fatal(err)
			}
			if err := run.Recall(journal); err != nil {
				t.Fatal(err)
			}
			err := run.Do(t.Context())
			if errors.Is(err, ErrOvertaken) != x.bad || !x.bad && (err != nil || (c.asked == 0) != x.found) {
				t.Errorf("%s: asked %d times, %v", x.there, c.asked, err)
			}
		})
	}
}

// A step that failed for certain has made nothing. One of which nobody knows what became may have, until its request
// can't arrive any more.
func TestUnsureSteps(t *testing.T) {
	at := time.Date(2026, 12, 2, 6, 0, 0, 0, time.UTC)
	for name, x := range map[string]struct {
		entries []any // Intention, or Result
		alive   time.Duration
		until   time.Duration // after the last entry; negative: the step is not unsure
	}{
		"begun":             {[]any{Intention{Lane: 1, Step: 1}}, 0, time.Minute},
		"with a limit":      {[]any{Intention{Lane: 1, Step: 1, Limit: 5}}, 0, 5 * time.Second},
		"alive later":       {[]any{Intention{Lane: 1, Step: 1, Limit: 5}}, time.Hour, time.Hour + 5*time.Second},
		"done":              {[]any{Intention{Lane: 1, Step: 1}, Result{Lane: 1, Step: 1}}, time.Hour, -1},
		"failed":            {[]any{Intention{Lane: 1, Step: 1}, Result{Lane: 1, Step: 1, Error: "409"}}, 0, -1},
		"failed, perhaps":   {[]any{Intention{Lane: 1, Step: 1, Limit: 9}, Result{Lane: 1, Step: 1, Error: "cut", Unsure: true}}, 0, 9 * time.Second},
		"another one begun": {[]any{Intention{Lane: 2, Step: 1}}, 0, -1},
	} {
		var journal pad
		for _, body := range x.entries {
			kind := Intend
			if r, is := body.(Result); is {
				kind = map[bool]string{true: Done, false: Failed}[r.Error == ""]
			}
			if _, err := journal.Append(at, "r", kind, body); err != nil {
				t.Fatal(err)
			}
		}
		alive := time.Time{}
		if x.alive > 0 {
			alive = at.Add(x.alive)
		}
		until, unsure := unsureSteps(journal, alive)[[2]int{1, 1}]
		if unsure != (x.until >= 0) || unsure && !until.Equal(at.Add(x.until)) {
			t.Errorf("%s: %v %v", name, unsure, until)
		}
	}
}
