# Two commands do everything: make demo, make test.

GO ?= go
SHELL := /bin/bash
SIM := tidepull/internal/testkit/sim

.PHONY: demo build test tools lint fuzz rounds soak kernel interop bench screenshots clean

demo: build ## the shipped trial against the shipped stand-in, on the screen
	@# Not proven (3) is this machine's doing and not make's: the last line says why.
	@./bin/tidepull demo || { status=$$?; [ $$status -eq 3 ] || exit $$status; }

build:
	$(GO) build -o bin/tidepull ./cmd/tidepull

test: tools lint build ## everything, with the race detector; most of it waits, so packages run side by side
	@# In virtual time one goroutine is awake at any moment: there is nothing to race.
	$(GO) test -timeout 10m $(SIM)
	TIDEPULL_BINARY=$(CURDIR)/bin/tidepull $(GO) test -race -p 4 -parallel 8 -timeout 10m \
		$$($(GO) list ./... | grep -v $(SIM)$$)

tools: ## what the tests need besides Go
	@scripts/need tmux

lint:
	@unformatted=$$(gofmt -l .); [ -z "$$unformatted" ] || { echo "not gofmt-clean: $$unformatted"; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck ./...

fuzz: ## each fuzz target for a while
	@scripts/fuzz $(or $(FUZZTIME),20s)

rounds: build ## all tests again and again beside a busy loop; an hour
	scripts/rounds $(or $(ROUNDS),20)

soak: build ## healthy and faulty servers beside busy neighbours, a table in docs/verdict.md; a hundred healthy runs of odd shapes; a thousand seeds in several shares, of routes, returns and faults
	TIDEPULL_SEEDS=$(or $(SEEDS),1000) $(GO) test ./internal/testkit/sim -run 'TestShares|TestRoutes|TestReturns|TestFaults|TestDatagramFaults|TestCorrupted|TestResume|TestPulse$$' \
		-timeout 60m
	SOAK=1 $(GO) test ./internal/run -run TestManyBreaks -v
	CROWDED=$(or $(CROWDED),30) CROWDED_WRITE=1 TIDEPULL_BINARY=$(CURDIR)/bin/tidepull $(GO) test ./cmd/tidepull \
		-run TestCrowded -v -timeout 120m
	SOAK=$(or $(RUNS),100) TIDEPULL_BINARY=$(CURDIR)/bin/tidepull $(GO) test ./cmd/tidepull -run TestSoak -v -timeout 60m

kernel: ## faults by the kernel's traffic control, on a kernel that has all of it, in an emulator (Debian, root)
	scripts/netem

interop: build ## real servers from the package registries; writes docs/interop.md
	INTEROP=1 $(GO) test ./interop -v -count=1 -timeout 30m

bench: ## docs/performance.md; needs cc
	@scripts/need cc:gcc taskset:util-linux
	$(GO) run ./bench

screenshots: ## the pictures in docs/screenshots
	scripts/screenshots

clean:
	rm -rf bin out
