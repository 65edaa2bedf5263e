# The two commands that matter are in README.md; these are for those who build it.
.PHONY: build test bench bench-audit fuzz compile-check golden release

build:
	CGO_ENABLED=0 go build -o isonomos ./cmd/isonomos

test:
	go test ./...

# The program for every platform (.ci/platforms), with its version in it, checksums beside
# it, and the sizes told. The version is the nearest tag, or the revision.
VERSION = $(shell git describe --tags --always --dirty)
release:
	.ci/cross dist $(VERSION)

# Benchmarks stand beside what they measure, with sizes 1k, 10k, 100k.
bench:
	go test -run '^$$' -bench . ./core/... ./nomos/... ./work ./store

# A million rules, with jq beside it.
bench-audit:
	bench/audit.sh

# Everything that reads outside data has a fuzz target; each runs for a while.
FUZZ = 30s
FUZZING = -fuzztime $(FUZZ) -fuzzminimizetime 1x
fuzz:
	go test -run '^$$' -fuzz FuzzFile $(FUZZING) ./nomos/parse
	go test -run '^$$' -fuzz FuzzFile $(FUZZING) ./nomos/print
	go test -run '^$$' -fuzz FuzzUnderstand $(FUZZING) ./nomos
	go test -run '^$$' -fuzz FuzzReadSurvey $(FUZZING) ./store
	go test -run '^$$' -fuzz FuzzRuleLine $(FUZZING) ./store
	go test -run '^$$' -fuzz FuzzReadCSV $(FUZZING) ./evidence
	go test -run '^$$' -fuzz FuzzScreen $(FUZZING) ./render
	go test -run '^$$' -fuzz FuzzFindings $(FUZZING) ./render
	go test -run '^$$' -fuzz FuzzAlgebra $(FUZZING) ./core/traffic

# Holds very many random definitions against a second reading of what they mean, compiled and
# carried out on stand-ins: some twenty minutes.
compile-check:
	go test ./work -run TestDefinitionsMeanWhatTheyBecome -v -rounds 20000 -seed $$(date +%s) -timeout 1h
	go test ./cli -run TestWhatIsDefinedIsEnacted -v -enacted 300 -timeout 1h

# Rewrites the golden files: read the difference before you commit it.
golden:
	go test ./cli ./nomos ./nomos/print ./render -update
