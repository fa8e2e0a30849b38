# Two commands do everything: make demo, make test.

GO ?= go
SHELL := /bin/bash

.PHONY: demo build test lint fuzz bench screenshots clean

demo: build ## the shipped trial against the shipped stand-in, on the screen
	./bin/tidepull demo

build:
	$(GO) build -o bin/tidepull ./cmd/tidepull

test: tools lint build ## everything, with the race detector; one package at a time, because they measure
	@# This is done by as many as there are cores, the next by one.
	$(GO) build -race ./...
	$(GO) test -race -p 1 -timeout 14m ./...

.PHONY: tools
tools: ## what the tests need besides Go
	@scripts/need tmux

lint:
	@unformatted=$$(gofmt -l .); [ -z "$$unformatted" ] || { echo "not gofmt-clean: $$unformatted"; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck ./...

fuzz: ## each fuzz target for a while
	@scripts/fuzz $(or $(FUZZTIME),20s)

bench: ## docs/performance.md; needs cc
	@scripts/need cc:gcc taskset:util-linux
	$(GO) run ./bench

screenshots: ## the pictures in docs/screenshots
	scripts/screenshots

clean:
	rm -rf bin out
