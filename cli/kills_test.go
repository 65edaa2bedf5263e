package cli_test

import (
	"flag"
	"math/rand/v2"
	"strings"
	"syscall"
	"testing"
	"time"
)

var (
	kills    = flag.Int("kills", 24, "how often TestKilledAtRandom kills the program")
	killSeed = flag.Uint64("kill-seed", 1, "where the random moments of TestKilledAtRandom begin")
)

// killedAfter runs the program and kills it after a time. It reports whether that was before its end.
func (h *harbourmaster) killedAfter(d time.Duration, args ...string) bool {
	h.t.Helper()
	c, _ := h.command(args...)
	if err := c.Start(); err != nil {
		h.t.Fatal(err)
	}
	timer := time.AfterFunc(d, func() { _ = c.Process.Signal(syscall.SIGKILL) })
	_ = c.Wait()
	timer.Stop()
	return c.ProcessState.ExitCode() == -1
}

// wayOut asks enact for what to type after a run was killed: nothing is assumed about where that was. Where two ways
// are open, back is 0 for the first, 1 for the second. It is nil if enact has nothing more to do.
func (h *harbourmaster) wayOut(back int) []string {
	h.t.Helper()
	code, out := h.run("enact")
	if code == 0 || strings.Contains(out, "carried out already") {
		return nil
	}
	ways := printed.FindAllStringSubmatch(out, -1)
	if len(ways) == 0 {
		h.t.Fatalf("enact: exit %d, and it says no way\n%s", code, out)
	}
	return strings.Fields(ways[min(back, len(ways)-1)][1])
}

// Killed at random moments, also on the way on and on the way back, what is printed next leads to exactly the old
// state or exactly the new one, and from there to the next change.
func TestKilledAtRandom(t *testing.T) {
	t.Parallel()
	first, oldState := settled(t)
	old := oldState.spelt()
	last, _ := first.again(t)
	began := time.Now()
	last.must(0, "enacted", "enact")
	whole := time.Since(began)
	arrived := readState(t, last.clouds).spelt()

	const chains = 8 // of kills, side by side
	number := *kills
	if testing.Short() {
		number = min(number, chains)
	}
	for chain := range uint64(chains) {
		t.Run("", func(t *testing.T) {
			t.Parallel()
			random := rand.New(rand.NewPCG(*killSeed, chain))
			olds, news, twice := 0, 0, 0
			for done := 0; done < number/chains; {
				h, _ := first.again(t)
				is := func() string { return readState(t, h.clouds).spelt() }
				back := random.IntN(2) // whether to go back where both ways are open
				command := []string{"enact"}
				for tries := 0; ; tries++ {
					if tries > 20 {
						t.Fatal("no end is reached")
					}
					if tries == 0 || tries < 3 && random.IntN(3) > 0 {
						killed := h.killedAfter(time.Duration(random.Int64N(int64(whole))), command...)
						if killed {
							done++
						}
						if killed && tries > 0 {
							twice++
						}
					} else if code, out := h.run(command...); code == 0 {
						break
					} else if !printed.MatchString(out) {
						t.Fatalf("%v: exit %d, and it says no way\n%s", command, code, out)
					}
					if command = h.wayOut(back); command == nil {
						break
					}
				}
				h.must(0, "its chain holds", "repeal", "--list")
				h.decidedIsThere()
				switch is() {
				case old:
					olds++
				case arrived:
					news++
				default:
					t.Fatalf("there is\n%s\nwant\n%s\nor\n%s", is(), arrived, old)
				}
				if random.IntN(4) > 0 { // the next change takes as long as all of the above
					continue
				}
				h.must(0, "", "draft")
				if code, out := h.run("enact"); code != 0 || is() != arrived {
					t.Fatalf("the next enact: exit %d\n%s\nthere is\n%s\nwant\n%s", code, out, is(), arrived)
				}
			}
			t.Logf("%d ended old, %d new; %d times the way out was killed as well", olds, news, twice)
		})
	}
}
