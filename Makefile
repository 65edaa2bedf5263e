# The two commands that matter are in README.md; these are for those who build it.
.PHONY: build test bench bench-audit fuzz compile-check kills siege golden release

build:
	CGO_ENABLED=0 go build -o isonomos ./cmd/isonomos

test:
	go test -timeout 30m ./...

# The program for every platform (.ci/platforms), with its version in it, checksums beside
# it, and the sizes told. The version is the nearest tag, or the revision.
VERSION = $(shell git describe --tags --always --dirty)
release:
	.ci/cross dist $(VERSION)

# Benchmarks stand beside what they measure, with sizes 1k, 10k, 100k.
bench:
	go test -run '^$$' -bench . ./core/... ./nomos/... ./work ./store ./uphold ./cloud/...

# A million rules, with jq beside it.
bench-audit:
	bench/audit.sh

# Everything that reads outside data has a fuzz target; each of them runs for a while.
FUZZ = 30s
fuzz:
	@grep -rl '^func Fuzz' --include='*_test.go' . | xargs -n1 dirname | sort -u | while read -r folder; do \
	  for target in $$(sed -n 's/^func \(Fuzz[A-Za-z0-9]*\).*/\1/p' $$folder/*_test.go); do \
	    echo "$$folder $$target"; \
	    go test -run '^$$' -fuzz "^$$target\$$" -fuzztime $(FUZZ) -fuzzminimizetime 1x $$folder || exit 1; \
	  done; \
	done

# Holds very many random definitions against a second reading of what they mean, compiled and
# carried out on stand-ins: some twenty minutes.
compile-check:
	go test ./work -run TestDefinitionsMeanWhatTheyBecome -v -rounds 20000 -seed $$(date +%s) -timeout 1h
	go test ./cli -run TestWhatIsDefinedIsEnacted -v -enacted 300 -timeout 1h

# Kills enact, and the ways on and back, at very many random moments, also on OpenStack: some twenty minutes.
kills:
	go test ./cli -run 'TestKilledAtRandom|TestRoundOnOpenStack' -v -kills 3000 -kill-seed $$(date +%s) -timeout 1h

# Somebody with a token does everything to upheld clouds, while the program is killed again and again: ten minutes, and
# then the stand-ins' own record is judged.
siege:
	go test ./cli -run TestSiege -v -siege 10m -siege-seed $$(date +%s) -timeout 1h

# Rewrites the golden files: read the difference before you commit it.
golden:
	go test . ./cli ./nomos ./nomos/print ./render -update
