# Every target sets up what it needs and, run again, does no needless work. `make help` lists them.
SHELL := /bin/bash
.DEFAULT_GOAL := help
SOURCES := $(shell find src -name '*.cs' -o -name '*.csproj' -o -name '*.sql' -o -name '*.sh' | grep -v '/obj/\|/bin/') Directory.Build.props Directory.Packages.props

help: ## List the targets
	@grep -E '^[a-z-]+:.*##' Makefile | sed -E 's/:.*## /\t/' | expand -t 16

CONSOLE := docs/formats/openapi.json $(shell find console -type f -not -path "*/node_modules/*" -not -path "*/dist/*" -not -name openapi.ts)

build: bin/tidestep ## Build everything; leaves bin/tidestep, bin/tidestep-service, bin/tidestep-standin

bin/tidestep: $(SOURCES) $(CONSOLE)
	@scripts/publish.sh

console/dist/index.html: $(CONSOLE)
	@scripts/console.sh

demo: build ## Start the service, the stand-in fleet and the console with the demo estate
	@scripts/demo.sh

example: build ## Run the whole example to its end, without a person
	@scripts/example.sh

demo-past: build ## Carry out the nights before the demo's planning day anew, and keep them in demo/past
	@scripts/demo-past.sh

lab-example: build ## Upgrade three real hosts over SSH, made on this machine (root on Linux)
	@scripts/lab-example.sh

test: ## Set up and run every test
	@scripts/test.sh

test-dates: ## Every test on other days: both clock changes, a leap day, the turn of a year, 2036 (hours)
	@scripts/test-dates.sh

soak: build ## A simulated day of fifty runs, and the database cluster with every fault (root on Linux)
	@scripts/soak.sh

audit: ## Look for packages with known vulnerabilities
	@. scripts/setup.sh; dotnet list TideStep.slnx package --vulnerable --include-transitive; npm --prefix console audit --omit=dev

pictures: build ## Take the pictures of docs/screenshots anew, from the demo
	@scripts/pictures.sh

bench: build ## Measure; writes docs/benchmarks.md
	@scripts/bench.sh

.PHONY: help build demo demo-past example lab-example test test-dates soak audit pictures bench
