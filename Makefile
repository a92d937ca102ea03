# Everything a fresh machine needs is installed from here: Go modules and npm packages by their own clients, Debian
# packages by apt-get when root runs it.

GO       ?= go
LISTEN   ?= 127.0.0.1:7411
DEMO_DIR ?= .demo
VERSION  := $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)
LDFLAGS  := -s -w -X lantern/internal/daemon.Version=$(VERSION)

WEB_SOURCES := $(shell find web/src web/public -type f 2>/dev/null) web/index.html web/vite.config.ts web/tsconfig.json
GO_SOURCES  := $(shell find cmd internal web -name '*.go' -not -name '*_test.go' 2>/dev/null) internal/api/openapi.yaml go.mod go.sum

.DEFAULT_GOAL := help

.PHONY: load shelves sites lighthouse packages upgrade-test help lint web-test race bench-check cover demo test judge judge-recovery prove kill rig rig-tools stacks stack-tools build check fmt generate fresh-generated try-btrfs shots fuzz bench tools clean

help: ## show what can be made
	@grep -hE '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed -E 's/^([a-z-]+):.*## /\1\t/' | sort | awk -F'\t' '{printf "  %-16s %s\n", $$1, $$2}'

demo: build ## run the service with the demo's hosts on LISTEN (FRESH=1, SPEED=300, DRIVES=10000)
	@exec ./lantern demo --listen $(LISTEN) --data $(DEMO_DIR) $(if $(FRESH),--fresh) $(if $(SPEED),--speed $(SPEED)) $(if $(DRIVES),--drives $(DRIVES))

build: lantern ## build the binary with the console in it

lantern: $(GO_SOURCES) web/dist/index.html
	CGO_ENABLED=0 $(GO) build -trimpath -ldflags '$(LDFLAGS)' -o $@ ./cmd/lantern

web/node_modules/.installed: web/package-lock.json
	cd web && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

web/dist/index.html: web/node_modules/.installed $(WEB_SOURCES)
	cd web && npm run --silent build
	@touch web/dist/.keep

# What the tests need beyond Go and Node: a browser, and mkfs.btrfs to make the file systems they swap members of.
tools: ## install what the tests need
	@missing=""; \
	command -v chromium >/dev/null 2>&1 || missing="$$missing chromium"; \
	command -v mkfs.btrfs >/dev/null 2>&1 || missing="$$missing btrfs-progs"; \
	command -v nginx >/dev/null 2>&1 || missing="$$missing nginx-light"; \
	command -v gs >/dev/null 2>&1 || missing="$$missing ghostscript"; \
	if [ -n "$$missing" ]; then \
	  if [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null 2>&1; then \
	    echo "installing$$missing"; apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $$missing >/dev/null; \
	  else \
	    echo "the tests need$$missing; install with: sudo apt-get install -y$$missing"; exit 1; \
	  fi; \
	fi

test: tools build fresh-generated lint web-test rig-tools stack-tools ## everything that must hold: lint, generated files, all tests (under 45 minutes)
	LANTERN_TEST_BINARY=$(CURDIR)/lantern LANTERN_RIG_KERNEL=$(RIG_KERNEL) LANTERN_RIG_TOOLS=$(RIG_TOOLS) $(GO) test -timeout 40m ./...
	$(MAKE) --no-print-directory bench-check race

# The rig is a small virtual machine in which the agent meets the kernel's ATA, SCSI and NVMe drivers. It wants QEMU, and
# Debian's kernel package unpacked; where they cannot be had, its test says so and is skipped.
RIG_KERNEL := $(CURDIR)/.cache/kernel

RIG_TOOLS := $(CURDIR)/.cache/tools

rig: rig-tools build ## the agent against the kernel's ATA, SCSI and NVMe drivers in a virtual machine
	LANTERN_RIG_KERNEL=$(RIG_KERNEL) $(GO) test -count=1 -timeout 5m -v -run '^TestRig$$' ./internal/rig

rig-tools:
	@if ! command -v qemu-system-x86_64 >/dev/null 2>&1 && [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null 2>&1; then \
	  echo "installing qemu-system-x86"; (apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends qemu-system-x86 >/dev/null) || true; \
	fi
	@if [ ! -d $(RIG_KERNEL)/boot ] && command -v dpkg-deb >/dev/null 2>&1 && command -v apt-get >/dev/null 2>&1; then \
	  package=$$(apt-cache depends linux-image-amd64 2>/dev/null | sed -n 's/.*Depends: \(linux-image-[^ ]*\)$$/\1/p' | head -n 1); \
	  if [ -z "$$package" ] && [ "$$(id -u)" = 0 ]; then apt-get update -qq || true; \
	    package=$$(apt-cache depends linux-image-amd64 2>/dev/null | sed -n 's/.*Depends: \(linux-image-[^ ]*\)$$/\1/p' | head -n 1); fi; \
	  if [ -n "$$package" ]; then echo "unpacking $$package"; mkdir -p $(RIG_KERNEL) && cd $(RIG_KERNEL) && \
	    (apt-get download -qq "$$package" 2>/dev/null && dpkg-deb -x linux-image-*.deb . && rm -f linux-image-*.deb) || true; fi; \
	fi

# The storage stacks that people really run, in the same virtual machine: encryption, LVM, multipath, arrays with partitions and with
# metadata of firmware. Programs of others make them; their packages are unpacked here and never installed.
stacks: rig-tools stack-tools build ## all storage stacks in the virtual machine
	LANTERN_RIG_KERNEL=$(RIG_KERNEL) LANTERN_RIG_TOOLS=$(RIG_TOOLS) LANTERN_STACKS=all $(GO) test -count=1 -timeout 20m -v -run '^Test(Stacks|Quiet)$$' ./internal/rig

shelves: rig-tools build ## what an agent costs on a host with 1,020 drives, in the virtual machine
	LANTERN_RIG_KERNEL=$(RIG_KERNEL) LANTERN_SHELVES=1 $(GO) test -count=1 -timeout 30m -v -run '^TestShelves$$' ./internal/rig

# Debian packages whose programs make those stacks, by name or, after a question mark, by what their description says.
STACK_LIST = $(CURDIR)/internal/rig/testdata/packages
STACK_PACKAGES = $(shell grep -v '^?' $(STACK_LIST)) $(shell sed -n 's/^? //p' $(STACK_LIST) | while read -r words; do apt-cache search "$$words" | cut -d' ' -f1; done)

stack-tools:
	@if [ ! -x $(RIG_TOOLS)/sbin/lvm ] && command -v dpkg-deb >/dev/null 2>&1 && command -v apt-get >/dev/null 2>&1; then \
	  echo "unpacking what makes storage stacks"; mkdir -p $(RIG_TOOLS) && cd $(RIG_TOOLS) && \
	  (apt-get download -qq $(STACK_PACKAGES) 2>/dev/null; for f in *.deb; do dpkg-deb -x "$$f" . ; done; rm -f *.deb) || true; \
	fi

check: ## formatting and go vet
	@test -z "$$(gofmt -l cmd compare packaging internal web/*.go)" || { echo "not formatted:"; gofmt -l cmd compare packaging internal web/*.go; exit 1; }
	$(GO) vet ./...
	cd compare && $(GO) vet ./...

fmt: web/node_modules/.installed ## format Go and the console
	gofmt -w cmd compare packaging internal web/*.go
	cd web && npx --no-install prettier --log-level warn --write . ../internal/api/openapi.yaml

lint: check web/node_modules/.installed ## formatting, go vet, staticcheck, the console's and the API description's linters
	$(GO) tool staticcheck ./...
	cd web && npm run --silent format && npm run --silent lint && npm run --silent api

web-test: web/node_modules/.installed ## the console's unit tests
	cd web && npm run --silent test

bench-check: ## figures of docs/benchmarks.md as ratios to plain work of the same run, with limits
	LANTERN_BENCH_CHECK=1 $(GO) test -count=1 -timeout 10m -v -run '^TestBenchCheck' ./internal/service ./internal/core/selftest
	cd compare && LANTERN_BENCH_CHECK=1 $(GO) test -count=1 -timeout 10m -v -run '^TestBenchCheck' .

# Coverage of the unit tests and of the binary that the stories drive, put together.
COVER := $(CURDIR)/.cache/cover

cover: tools build ## coverage of unit and end-to-end tests together, with limits
	@rm -rf $(COVER) && mkdir -p $(COVER)/unit $(COVER)/stories
	CGO_ENABLED=0 $(GO) build -cover -coverpkg=./cmd/...,./internal/... -o $(COVER)/lantern ./cmd/lantern
	GOCOVERDIR=$(COVER)/stories LANTERN_TEST_BINARY=$(COVER)/lantern $(GO) test -count=1 -timeout 30m ./internal/e2e
	$(GO) test -count=1 -timeout 30m -cover -coverpkg=./internal/... ./internal/core/... ./internal/service/... ./internal/httpd ./internal/cli ./internal/agent/... ./internal/daemon ./internal/wire ./internal/store ./internal/channel ./internal/recurrence ./internal/lab -args -test.gocoverdir=$(COVER)/unit
	$(GO) tool covdata percent -i=$(COVER)/unit,$(COVER)/stories | sed 's/^\s*//' | sort | awk -f scripts/cover-limits.awk

race: ## the core, the service and the agent under the race detector
	$(GO) test -race -timeout 20m ./internal/core/... ./internal/service/... ./internal/agent/...

generate: web/node_modules/.installed ## generate code from the API description
	$(GO) generate ./internal/api
	cd web && npm run --silent types

# Generated files are checked in; this fails when they are not what the description gives.
fresh-generated: web/node_modules/.installed
	@before=$$(cat internal/api/api.gen.go web/src/api/schema.gen.d.ts | sha256sum); \
	$(MAKE) --no-print-directory generate >/dev/null; \
	after=$$(cat internal/api/api.gen.go web/src/api/schema.gen.d.ts | sha256sum); \
	test "$$before" = "$$after" || { echo "the generated files were not fresh: commit what make generate gives"; exit 1; }

try-btrfs: tools build ## swap a member of a real btrfs pool
	LANTERN_TEST_BINARY=$(CURDIR)/lantern $(GO) test -count=1 -timeout 10m -run '^TestBtrfs(Drained)?$$' ./internal/e2e

chaos: tools build ## faults under load: force, full disks, late and doubled reports, cut networks (2 minutes)
	LANTERN_CHAOS=1 LANTERN_TEST_BINARY=$(CURDIR)/lantern $(GO) test -count=1 -timeout 15m -v -run '^TestChaos$$' ./internal/e2e

# New pictures of the console and the terminal from the demo data, into docs/screenshots.
load: build ## a service under the load of 100,000 drives, and how long everybody waited (HOSTS, DRIVES, PEOPLE, FOR; 12 minutes)
	@scripts/load.sh

sites: build ## a headquarters with SITES sites of DRIVES drives each on this machine, and what it costs
	@scripts/sites.sh

shots: tools build ## take the pictures in docs/screenshots again
	LANTERN_TEST_BINARY=$(CURDIR)/lantern LANTERN_SHOTS=$(CURDIR)/docs/screenshots $(GO) test -count=1 -timeout 10m -run '^Test(LocateConsole|Console|SwapOnPhone)$$' -v ./internal/e2e
	@command -v Xvfb >/dev/null && command -v xterm >/dev/null && command -v import >/dev/null \
	  && scripts/terminal-shots.sh || echo "no pictures of the terminal: they want xvfb, xterm and imagemagick"

# How well the finish of a recovery is told: on 200 of the lab's, and where it can be had on a real btrfs.
judge-recovery: ## how well the finish of a recovery is predicted
	$(GO) run ./internal/lab/finishes

# Every state that a swap can reach with small pools, and whether the rules hold in all of them (about 16 minutes, 15 GB).
prove: ## go through every state that a swap can reach (16 minutes, 15 GB)
	$(GO) run ./internal/proof

# The service and the agents are killed at random moments while drives are swapped, in the lab and on a real btrfs pool.
kill: tools build ## kill service and agents at random moments
	LANTERN_TEST_BINARY=$(CURDIR)/lantern LANTERN_KILLS=500 $(GO) test -count=1 -timeout 60m -v -run '^TestKill$$' ./internal/e2e
	LANTERN_TEST_BINARY=$(CURDIR)/lantern LANTERN_KILLS=50 $(GO) test -count=1 -timeout 20m -v -run '^TestKillBtrfs$$' ./internal/e2e

# How good the rules are, on a year of 10,000 drives whose fate is known.
judge: ## how good the rules are, on 10,000 drives of known fate
	$(GO) run ./internal/lab/judge

FUZZTIME ?= 20s
fuzz: ## fuzz everything that parses (FUZZTIME=20s each)
	@grep -rl '^func Fuzz' internal --include=*_test.go | xargs -n1 dirname | sort -u | while read d; do \
	for f in $$(grep -ho '^func Fuzz[A-Za-z]*' $$d/*_test.go | cut -c6-); do \
	echo "$$d $$f"; $(GO) test -run '^$$' -fuzz "^$$f$$" -fuzztime $(FUZZTIME) ./$$d || exit 1; done; done

lighthouse: build ## look at every page of the console with Lighthouse, fetched by npm (an idle machine)
	@scripts/lighthouse.sh

bench: ## all benchmarks
	$(GO) test -run '^$$' -bench . -benchmem ./...
	cd compare && $(GO) test -run '^$$' -bench . -benchtime 1x

clean: ## remove what was built
	rm -rf lantern web/dist/assets web/dist/index.html web/dist/*.svg web/dist/*.js web/dist/*.webmanifest web/node_modules

# The time of the newest change, so that the same sources give the same packages.
PACKAGES := $(CURDIR)/dist

# By the day, and by how many changes there were before: so a later package is the newer one.
PACKAGE_VERSION = $(shell git log -1 --date=format:%Y.%m.%d --format=%cd)+$(shell git rev-list --count HEAD).$(shell git log -1 --format=%h)

packages: web/dist/index.html ## Debian packages and tarballs for amd64 and arm64, in dist/
	cd packaging && VERSION=$(PACKAGE_VERSION) SOURCE_DATE_EPOCH=$$(git log -1 --format=%ct) $(GO) run . $(PACKAGES)

upgrade-test: web/dist/index.html ## packages installed in a fresh Debian: upgraded from FROM, backed up, destroyed, restored, removed (root)
	@command -v debootstrap >/dev/null 2>&1 || { [ "$$(id -u)" = 0 ] && apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends debootstrap >/dev/null; }
	cd packaging && UPGRADE_FROM=$(FROM) UPGRADE_CACHE=$(CURDIR)/.cache/debian $(GO) test -count=1 -timeout 20m -v -run '^TestUpgrade$$' .
