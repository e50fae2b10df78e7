# What each target does is said beside it; `make` alone builds.
version := $(shell git describe --tags --always --dirty 2>/dev/null || echo unknown)
date    := $(shell git log -1 --format=%cs 2>/dev/null || date -u +%F)
flags   := -trimpath -ldflags "-s -w -X havvel/internal/release.version=$(version) -X havvel/internal/release.day=$(date)"
export CGO_ENABLED := 0
CORPUS  ?= /tmp/havvel-corpus

.PHONY: build demo test windows corpus matrix faults race fuzz bench bench-pictures scale lint dist licences docs screenshots

build: ## the program, in this folder
	go build $(flags) -o havvel .

demo: build ## the full example: from an export to a public link
	./havvel demo

test: ## all tests; installs what they need where it may, and says what is missing where it may not
	scripts/test-partners
	$(MAKE) lint
	go test -timeout 80m -parallel 4 ./...

windows: ## the Windows program, under Wine
	scripts/test-partners
	go test -count=1 -v -run '^TestWindows' ./tests

corpus: build ## exports of many libraries and bundlers, packed and run beside the originals; the table in docs/corpus.md
	scripts/test-partners corpus
	scripts/corpus/build $(CORPUS)
	go run ./scripts/corpus -at $(CORPUS) -doc docs/corpus.md $(if $(PORTALS),-portals)

matrix: build ## every way in which games load compressed files, on every kind of host; games of known behaviour; in a browser
	scripts/test-partners corpus
	scripts/corpus/build $(CORPUS) loaders
	scripts/corpus/build $(CORPUS) known
	MATRIX=$(CORPUS)/loaders go test -count=1 -timeout 60m -parallel 3 -run '^TestUnpacking$$|^TestLargeStreams$$' ./tests
	MATRIX=1 CORPUS=$(CORPUS) go test -count=1 -timeout 120m -parallel 2 -run '^TestGames$$|^TestReportReadable$$|^TestSteady$$' ./tests
	MATRIX=1 go test -count=1 -timeout 30m -parallel 2 -run '^TestSpoiled$$' ./internal/proof
	MATRIX=1 go test -count=1 -timeout 30m -parallel 8 -run '^TestFaults$$' ./internal/deliver
	mkdir -p $(CORPUS)/axe && cd $(CORPUS)/axe && npm pack --silent axe-core@4.14.1 && tar xzf axe-core-4.14.1.tgz
	AXE=$(CORPUS)/axe/package/axe.min.js go test -count=1 -v -run '^TestAccessible$$' ./tests
	BUSY=2 MATRIX=1 CORPUS=$(CORPUS) go test -count=1 -timeout 180m -parallel 2 -run '^TestGames$$' ./tests

lint: ## gofmt, go vet and staticcheck
	@bad=$$(gofmt -l .); if [ -n "$$bad" ]; then echo "not gofmt-clean:"; echo "$$bad"; exit 1; fi
	go vet ./...
	go tool staticcheck ./...

faults: ## every test that docs/reliability.md names
	scripts/test-partners
	go test -count=1 -timeout 40m -run "^($$(grep -o '`[A-Z][A-Za-z]*`' docs/reliability.md | tr -d '`' | sort -u | paste -sd'|'))\$$" ./...

race: ## all tests with the race detector, in the program too; needs a C compiler
	scripts/test-partners
	CGO_ENABLED=1 go test -race -timeout 60m -parallel 4 ./...

fuzz: ## every fuzz target for FOR (10s each); findings are written into testdata/fuzz
	@go list ./... | while read -r package; do \
	  go test -list '^Fuzz' "$$package" | grep '^Fuzz' | while read -r target; do \
	    echo "$$package $$target"; \
	    go test -run '^$$' -fuzz "^$$target\$$" -fuzztime $(or $(FOR),10s) -fuzzminimizetime 5x -parallel 1 "$$package" < /dev/null || exit 1; \
	  done || exit 1; \
	done

bench: ## speed against partners in the same run; figures in docs/performance.md
	scripts/test-partners bench
	scripts/corpus/build $(CORPUS) packages
	CORPUS=$(CORPUS) go test -run '^$$' -bench . -benchtime 3x -timeout 3h ./tests

bench-pictures: ## what pictures become, beside common tools; figures in docs/performance.md
	scripts/test-partners bench
	go test -run '^$$' -bench BenchmarkPictures -benchtime 1x -count 3 -timeout 1h ./internal/pictures

scale: ## many testers on a playtest host, EVENTS in all (200,000); figures in docs/scale.md
	scripts/test-partners
	go test -run '^$$' -bench BenchmarkScale -benchtime 1x -timeout 2h ./tests

dist: licences ## a release in dist/: archives for each system, checksums, and what they are made of
	go run ./scripts/dist "$(version)" "$(date)"

licences: ## docs/dependencies.md, and dist/licences.txt with the texts
	go run ./scripts/licences

docs: ## the reference pages that come from the code
	go test ./internal/cli -run "TestReference|TestSchema" -update

screenshots: build ## docs/screenshots, from the demo data
	scripts/screenshots
