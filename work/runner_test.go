package work_test

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"isonomos/cloud/standin"
	"isonomos/core/change"
	"isonomos/core/decide"
	"isonomos/core/estate"
	"isonomos/core/traffic"
	"isonomos/enact"
	"isonomos/internal/inmemory"
	"isonomos/nomos"
	"isonomos/nomos/resolve"
	"isonomos/nomos/source"
	"isonomos/store"
	"isonomos/work"
)

func TestMain(m *testing.M) {
	if err := inmemory.Use(); err != nil {
		panic(err)
	}
	os.Exit(m.Run())
}

// A quay is a stand-in cloud, a journal and definitions, all in this process: what the runner does is tested without the
// built program.
type quay struct {
	t      testing.TB
	folder string
	server *standin.Server
	web    *httptest.Server
	store  *store.Store
	token  string
	defs   nomos.Definitions
	// before is asked about each request: if it answers it itself, the stand-in does not see it. nil answers none.
	before atomic.Pointer[func(w http.ResponseWriter, r *http.Request) (answered bool)]
}

// newQuay serves the clouds of a survey.
func newQuay(t testing.TB, survey string) *quay {
	t.Helper()
	q := &quay{t: t, folder: t.TempDir()}
	if err := os.WriteFile(filepath.Join(q.folder, standin.StateFile), []byte(survey), 0o600); err != nil {
		t.Fatal(err)
	}
	var err error
	if q.server, err = standin.Open(q.folder); err != nil {
		t.Fatal(err)
	}
	q.web = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if before := q.before.Load(); before != nil && (*before)(w, r) {
			return
		}
		q.server.ServeHTTP(w, r)
	}))
	t.Cleanup(q.web.Close)
	token, err := os.ReadFile(filepath.Join(q.folder, standin.TokenFile))
	if err != nil {
		t.Fatal(err)
	}
	q.token = string(token)
	if q.store, err = store.Open(filepath.Join(q.folder, "isonomos.db"), true); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { q.store.Close() })
	return q
}

// define takes definitions, in which a cloud is reached where its dialect is said.
func (q *quay) define(text string) {
	q.t.Helper()
	text = strings.NewReplacer("dialect union", "dialect union\n at env QUAY_URL\n token env QUAY_TOKEN\n",
		"dialect ranked", "dialect ranked\n at env QUAY_URL\n token env QUAY_TOKEN\n",
		"dialect layered", "dialect layered\n at env QUAY_URL\n token env QUAY_TOKEN\n",
		"dialect flat", "dialect flat\n at env QUAY_URL\n token env QUAY_TOKEN\n").Replace(text)
	q.defs = understood(q.t, text)
}

func understood(t testing.TB, text string) nomos.Definitions {
	t.Helper()
	d := nomos.Understand([]*source.File{source.NewFile("a.nomos", text)}, resolve.Options{Now: time.Unix(1790000000, 0)})
	for _, m := range d.Messages {
		if !m.Warning {
			t.Fatalf("%s\n%s", m.String(), text)
		}
	}
	return d
}

func (q *quay) surveyor() work.Surveyor {
	cloud := q.defs.Estate.Clouds[0].Name
	return work.Surveyor{Definitions: q.defs.Estate, Now: time.Now, Note: func(string, ...any) {},
		Counting: func(string, int) (func(), func()) { return func() {}, func() {} },
		Environment: func(name string) string {
			return map[string]string{"QUAY_URL": q.web.URL + "/" + cloud, "QUAY_TOKEN": q.token,
				"ISONOMOS_REQUEST_SECONDS": "1"}[name]
		}}
}

// live surveys the clouds as they are.
func (q *quay) live(ctx context.Context) (*estate.Estate, error) {
	plan, err := q.surveyor().Plan(ctx)
	if err != nil {
		return nil, err
	}
	var text bytes.Buffer
	if _, err := plan.Read(ctx, &text); err != nil {
		return nil, err
	}
	e, _, err := store.ReadSurvey(&text, "the clouds")
	return e, err
}

func (q *quay) now() *estate.Estate {
	q.t.Helper()
	e, err := q.live(q.t.Context())
	if err != nil {
		q.t.Fatal(err)
	}
	return e
}

func (q *quay) pasts() []*enact.Past {
	q.t.Helper()
	pasts, err := enact.Pasts(q.store.Journal)
	if err != nil {
		q.t.Fatal(err)
	}
	return pasts
}

// job is the one of bringing the clouds to what is defined.
func (q *quay) job(adopts ...string) work.Job {
	q.t.Helper()
	j, err := work.DefinedJob(q.defs, "digest", nil, adopts, enact.KnownFrom(q.pasts()).Has, nil)
	if err != nil {
		q.t.Fatal(err)
	}
	return j
}

// drafted is a draft of what is defined.
func (q *quay) drafted(adopts ...string) (*work.Prepared, error) {
	q.t.Helper()
	p, err := q.job(adopts...).Prepare(q.now(), enact.Waves{}, time.Now())
	if err == nil {
		p.Draft.Adopts = append(p.Draft.Adopts, adopts...)
		p.Draft.Seal = p.Draft.Sealed()
	}
	return p, err
}

// carry carries a draft out, or carries on a run that was broken off.
func (q *quay) carry(ctx context.Context, j work.Job, d *enact.Draft, past *enact.Past) (string, error) {
	j.Defined = q.defs.Estate
	return work.CarryOut{Job: j, Draft: d, Past: past, Store: q.store, Surveyor: q.surveyor(), Live: q.live, By: "test",
		Jobs: 1, Now: time.Now, Note: func(string, ...any) {},
		Counting: func(string, int) (func(), func()) { return func() {}, func() {} }}.Do(ctx)
}

// enacted drafts and carries out.
func (q *quay) enacted(adopts ...string) (string, error) {
	q.t.Helper()
	p, err := q.drafted(adopts...)
	if err != nil {
		return "", err
	}
	return q.carry(q.t.Context(), q.job(adopts...), &p.Draft, nil)
}

// repealed undoes a run, as soon as none of its requests can arrive any more.
func (q *quay) repealed(name string) error {
	q.t.Helper()
	past, err := work.ToUndo(q.pasts(), name)
	if err != nil {
		return err
	}
	if err := work.LastAlive(q.store, past, time.Now()); err != nil {
		return err
	}
	j := work.UndoingJob(q.defs.Estate, past, nil)
	surveyed, err := q.live(q.t.Context())
	if err != nil {
		return err
	}
	p, err := j.Prepare(surveyed, enact.Waves{}, time.Now())
	if err != nil {
		return err
	}
	p.Draft.Repeals = past.Name
	_, err = q.carry(q.t.Context(), j, &p.Draft, nil)
	return err
}

// state are the lines of the stand-in's own file, sorted.
func (q *quay) state() string {
	q.t.Helper()
	text, err := os.ReadFile(filepath.Join(q.folder, standin.StateFile))
	if err != nil {
		q.t.Fatal(err)
	}
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

// by does something in the cloud by hand, and returns the answer.
func (q *quay) by(method, path, body string) (int, string) {
	q.t.Helper()
	r, err := http.NewRequestWithContext(q.t.Context(), method, "/"+q.defs.Estate.Clouds[0].Name+"/v1"+path,
		strings.NewReader(body))
	if err != nil {
		q.t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+q.token)
	r.Header.Set("Content-Type", "application/json")
	w := httptest.NewRecorder()
	q.server.ServeHTTP(w, r)
	return w.Code, w.Body.String()
}

// differs is what opens and closes from one state to another, as comparing says it.
func differs(before, after *estate.Estate) string {
	return spelt(change.Compare(decide.New(before), decide.New(after)))
}

// spelt is what a difference opens and closes, at which instances, exactly; whatever it gives as the cause.
func spelt(d change.Difference) string {
	at := make(map[string]traffic.Set)
	for i := range d.Changes {
		c := &d.Changes[i]
		for _, instance := range c.Instances {
			key := fmt.Sprintf("%s %s %s", instance, c.Kind, c.Direction)
			at[key] = at[key].Union(c.Traffic)
		}
	}
	var lines []string
	for key, set := range at {
		for _, b := range set.Bands() {
			key += fmt.Sprintf(" %v-%v %v;", b.From, b.To, b.Peers)
		}
		lines = append(lines, key)
	}
	slices.Sort(lines)
	return strings.Join(append(lines, d.Unknown...), "\n")
}

// A group or list that shares its name is adopted by its id.
func TestAdoptingById(t *testing.T) {
	ids := []string{"g-1", "g-2"}
	q := newQuay(t, strings.Replace(whoseSurvey, "DIALECT", "flat", 1)+
		`{"kind":"group","account":"a","id":"g-1","name":"web","for":"instances"}`+"\n"+
		`{"kind":"group","account":"a","id":"g-2","name":"web","for":"instances"}`+"\n")
	q.define(strings.Replace(strings.Replace(laterDefinitions, "PORT", "1000", 1), "union", "flat", 1))
	p, err := q.drafted()
	if err != nil || p.Draft.Steps() != 0 || !slices.Equal(p.Draft.CanAdopt, slices.Sorted(slices.Values([]string{
		"a/" + ids[0], "a/" + ids[1]}))) {
		t.Fatalf("%v, %d steps, can adopt %q", err, p.Draft.Steps(), p.Draft.CanAdopt)
	}
	if _, err := q.enacted("a/" + ids[1]); err != nil {
		t.Fatal(err)
	}
	for _, g := range q.now().Groups {
		if (g.Labels[estate.OwnLabel] == "play") != (g.ID == ids[1]) {
			t.Errorf("%s has %v", g.ID, g.Labels)
		}
	}
	if _, err := q.drafted("a/grp-nowhere"); err == nil {
		t.Error("what is not there is adopted")
	}
}
