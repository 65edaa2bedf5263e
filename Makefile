# The two commands that matter are in README.md; these are for those who build it.
.PHONY: build test bench fuzz golden

build:
	CGO_ENABLED=0 go build -o isonomos ./cmd/isonomos

test:
	go test ./...

# Benchmarks stand beside what they measure, with sizes 1k, 10k, 100k.
bench:
	go test -run '^$$' -bench . ./core/... ./nomos/...

# Everything that reads outside data has a fuzz target; each runs for a while.
FUZZ = 30s
fuzz:
	go test -run '^$$' -fuzz FuzzFile -fuzztime $(FUZZ) ./nomos/parse
	go test -run '^$$' -fuzz FuzzUnderstand -fuzztime $(FUZZ) ./nomos
	go test -run '^$$' -fuzz FuzzReadSurvey -fuzztime $(FUZZ) ./store
	go test -run '^$$' -fuzz FuzzReadCSV -fuzztime $(FUZZ) ./evidence
	go test -run '^$$' -fuzz FuzzAlgebra -fuzztime $(FUZZ) ./core/traffic

# Rewrites the golden files: read the difference before you commit it.
golden:
	go test ./cli ./nomos -update
