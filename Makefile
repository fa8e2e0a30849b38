# Two commands do everything: make demo, make test.

GO ?= go
SHELL := /bin/bash
# What --version says it was built from; nothing where there is no git.
COMMIT := $(shell git log -1 --format='%h of %cs' 2>/dev/null && { git diff --quiet HEAD || echo '(with changes)'; })
# The packages that start goroutines; a test of testkit/layers reads this and sees to it that the others do not, so that
# there is nothing to race in them. The commands run in processes of their own.
# SINGLE are tests of theirs that race with nothing that other tests do not race with, and take much time.
SINGLE := ^(TestRude|TestEveryLossIsTrue|TestNight|TestCollectorSums|TestSameFiguresAsLive|TestKilled|TestMadeTogether|TestFullDisk|TestHostileNames|TestEveryCase|TestMigration|TestFirstSchema|TestList|TestDocumentedQuery|TestDay)$$
CONCURRENT := internal/(engine(/(clocks|poll|pressure|process|secure|traffic|tunnel|workers))?|run|standin|capture/(conform|learn|play|probe|relay)|report/(export|store)|tui)$$

.PHONY: demo build build-race test test-plain test-race tools lint fuzz mutants rounds soak kernel interop bench screenshots clean

demo: build ## the shipped trial against the shipped stand-in, on the screen
	@# Not proven (3) is this machine's doing and not make's: the last line says why.
	@./bin/tidepull demo || { status=$$?; [ $$status -eq 3 ] || exit $$status; }

build:
	$(GO) build -ldflags '-X "main.commit=$(COMMIT)"' -o bin/tidepull ./cmd/tidepull

test: tools ## everything, with the race detector where goroutines are; few at once, as it makes any machine busy
	@# SQLite is one package of a minute: one core builds it as it is, the other for the race detector.
	@$(MAKE) --no-print-directory -j2 build build-race
	@# What waits and what reckons share the machine. Lint vets all of it.
	@$(MAKE) --no-print-directory -j2 test-plain test-race

build-race:
	@$(GO) build -race ./internal/...

test-plain: # pure packages, and the commands
	TIDEPULL_BINARY=$(CURDIR)/bin/tidepull $(GO) test -vet=off -p 1 -parallel 4 -timeout 20m \
		$$($(GO) list ./... | grep -Ev '$(CONCURRENT)')
	$(GO) test -vet=off -timeout 20m ./internal/run ./internal/report/store ./internal/tui ./internal/capture/conform -run '$(SINGLE)'

test-race:
	TIDEPULL_BINARY=$(CURDIR)/bin/tidepull $(GO) test -race -vet=off -p 2 -parallel 4 -timeout 20m -skip '$(SINGLE)' \
		$$($(GO) list ./... | grep -E '$(CONCURRENT)' | sort -r) # the long ones first

tools: ## what the tests need besides Go
	@scripts/need tmux

lint: ## gofmt, vet and staticcheck; before each commit, and in CI
	@unformatted=$$(gofmt -l .); [ -z "$$unformatted" ] || { echo "not gofmt-clean: $$unformatted"; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck ./...

mutants: ## 60 places of the code changed, one at a time: which changes no test notices (docs/mutants.md)
	$(GO) run ./scripts/mutants

fuzz: ## each fuzz target for a while
	@scripts/fuzz $(or $(FUZZTIME),20s)

rounds: ## make test again and again beside busy loops (BESIDE=stutter: beside one that takes all cores now and then)
	scripts/rounds $(or $(ROUNDS),10) $(or $(BESIDE),4)

soak: build ## healthy and faulty servers beside busy neighbours, a table in docs/verdict.md; a hundred healthy runs of odd shapes; a thousand seeds in several shares, of routes, returns and faults, and a thousand surveys; a day of a thousand clients in virtual time
	TIDEPULL_SEEDS=$(or $(SEEDS),1000) $(GO) test ./internal/testkit/sim -run 'TestShares|TestRoutes|TestReturns|TestFaults|TestDatagramFaults|TestCorrupted|TestResume|TestSame$$|TestUnmarked|TestPulse$$|TestNoFalseAlarm' \
		-timeout 60m
	TIDEPULL_SEEDS=$(or $(SEEDS),1000) TIDEPULL_SURVEYS=$(or $(SEEDS),1000) $(GO) test ./internal/testkit/sim \
		-run 'TestSurvey$$' -timeout 120m
	SOAK=1 $(GO) test ./internal/run -run TestManyBreaks -v
	SOAK=1 $(GO) test ./internal/report/store -run TestDay -v -timeout 60m
	CROWDED=$(or $(CROWDED),30) CROWDED_WRITE=1 TIDEPULL_BINARY=$(CURDIR)/bin/tidepull $(GO) test ./cmd/tidepull \
		-run TestCrowded -v -timeout 120m
	MANY=$(or $(MANY),60000) TIDEPULL_BINARY=$(CURDIR)/bin/tidepull $(GO) test ./cmd/tidepull -run TestMany -v -timeout 60m
	SOAK=$(or $(RUNS),100) TIDEPULL_BINARY=$(CURDIR)/bin/tidepull $(GO) test ./cmd/tidepull -run 'TestSoak|TestRude' -v -timeout 60m

kernel: ## faults by the kernel's traffic control, on a kernel that has all of it, in an emulator (Debian, root)
	scripts/netem

interop: build ## real servers from the package registries; writes docs/interop.md
	INTEROP=1 $(GO) test ./interop -v -count=1 -timeout 90m

bench: ## docs/performance.md; needs cc
	@scripts/need cc:gcc taskset:util-linux
	$(GO) run ./bench

screenshots: ## the pictures in docs/screenshots
	scripts/screenshots

clean:
	rm -rf bin out
