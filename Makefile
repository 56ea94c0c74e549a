# Vexillum. `make help` tells what there is.

GO   ?= go
BIN  := bin/vexillum
export CGO_ENABLED ?= 0

.PHONY: help demo test build builds console deps check race chaos attack audit licences bench screenshots clean

help: ## Show this list
	@awk -F':.*## ' '/^[a-z-]+:.*## / {printf "  make %-12s %s\n", $$1, $$2}' $(MAKEFILE_LIST)

deps: ## Install what is missing from Debian's packages
	@scripts/deps

console: web/dist/index.html

web/node_modules/.stamp: web/package.json web/package-lock.json web/.npmrc
	cd web && npm ci --no-fund --no-audit
	@touch $@

# The console's types are made from the OpenAPI document and never kept.
web/src/api/schema.d.ts: web/node_modules/.stamp internal/api/openapi.yaml
	cd web && npm run --silent types >/dev/null
	@touch $@

web/dist/index.html: web/node_modules/.stamp web/src/api/schema.d.ts web/index.html web/vite.config.ts $(shell find web/src web/public -type f)
	cd web && npx vite build
	@touch web/dist/.gitkeep $@

build: console ## Build console and binary into bin/
	$(GO) build -o $(BIN) ./cmd/vexillum

builds: console ## Build for all systems that studios have, into bin/
	scripts/builds

demo: deps build ## Start the demo farm of Pellmarsh; Ctrl-C ends it
	@exec $(BIN) demo

test: deps build ## Run everything, the check included
	scripts/test

check: console ## gofmt, vet, staticcheck, revive, tsc, biome, types on other systems
	scripts/check

race: deps console ## Run the tests of what runs side by side under the race detector
	CGO_ENABLED=1 $(GO) test -race ./internal/service/... ./internal/node ./internal/api ./internal/client ./internal/store

ROUNDS ?= 5
SEED   ?= 1

chaos: deps build ## Break a farm at random, ROUNDS=n times from SEED=s on, and check what came of it
	$(GO) run ./tools/chaos -rounds $(ROUNDS) -seed $(SEED) -binary $(BIN)

attack: deps build ## Replay the attacks that were tried, and print a table
	scripts/attack

audit: ## Look for known weaknesses in what we build on (needs a network)
	scripts/audit

licences: ## List the licences of what we build on, in docs/licences.md
	$(GO) run ./tools/licences >docs/licences.md

bench: deps build ## Print the figures that the design asks for
	scripts/bench

screenshots: deps build ## Take docs/screenshots from the demo farm anew
	scripts/screenshots

clean: ## Remove what was built
	rm -rf bin web/dist/assets web/dist/index.html web/node_modules
