# Two commands do everything: make demo, and make test.
# Both install what they need from Debian's packages, and both can be run twice.

SHELL   := /bin/bash
SUDO    := $(shell [ "$$(id -u)" = 0 ] || echo sudo)
VERSION := $(shell git describe --always --dirty 2>/dev/null || echo dev)
LDFLAGS := -s -w -X main.version=$(VERSION)
GO      := go
# One set of flags for what is built, vetted and tested, so that nothing is compiled twice: no C, and no path of
# this machine.
export CGO_ENABLED := 0
export GOFLAGS     := $(strip $(filter-out -trimpath,$(shell go env GOFLAGS)) -trimpath)
AS_ROOT := $(SUDO) env PATH="$$PATH" HOME="$$HOME" GOFLAGS="$$GOFLAGS" CGO_ENABLED=
FUZZTIME ?= 1m
GOSRC   := $(shell find cmd content core demo host lab service -type f ! -name '*_test.go' ! -path '*/console/dist/*' 2>/dev/null) go.mod go.sum
WEBSRC  := $(shell find web/src web/index.html web/package.json web/package-lock.json web/vite.config.ts service/contract/openapi.yaml 2>/dev/null)

.PHONY: help demo images stop clean test check vet lint e2e fuzz walk bench deps build rehearsal sources generate

help:
	@echo "make demo    build all, start PostgreSQL, the service and three practice hosts, apply the demo ground"
	@echo "make stop    end exactly what make demo started"
	@echo "make clean   stop, and leave nothing of it on the machine"
	@echo "make check   format, vet, types, and the tests that need neither root nor a host"
	@echo "make lint    the linters that the tree passes"
	@echo "make test    every test, on practice hosts of its own"
	@echo "make e2e RUN=TestName    one test on practice hosts"
	@echo "make fuzz    every fuzz target for a minute"
	@echo "make bench   the benchmarks; writes docs/performance.md"

deps:
	@$(SUDO) ./lab/packages.sh

build: bin/northstake bin/northstaked bin/demo

# The rod with which failures are rehearsed: it stops in the middle of a step where a test says so.
rehearsal: build bin/rehearsal/rod-linux-$(shell $(GO) env GOARCH)
bin/rehearsal/rod-linux-%: $(GOSRC)
	@mkdir -p bin/rehearsal
	GOARCH=$* $(GO) build -tags rehearse -ldflags='-s -w' -o $@ ./cmd/rod

# What the binaries are made from; a test compares it with what the compiler reads.
sources:
	@echo $(GOSRC)

bin/rods/rod-linux-%: $(GOSRC)
	@mkdir -p bin/rods
	GOARCH=$* $(GO) build -ldflags='-s -w' -o $@ ./cmd/rod

bin/northstaked: $(GOSRC) service/console/dist/index.html bin/rods/rod-linux-amd64 bin/rods/rod-linux-arm64
	$(GO) build -ldflags='$(LDFLAGS)' -o $@ ./cmd/northstaked

bin/northstake: $(GOSRC)
	$(GO) build -ldflags='$(LDFLAGS)' -o $@ ./cmd/northstake

bin/demo: $(GOSRC)
	$(GO) build -o $@ ./demo

web/node_modules/.package-lock.json: web/package-lock.json
	cd web && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

service/console/dist/index.html: web/node_modules/.package-lock.json $(WEBSRC)
	cd web && npm run --silent build

generate: web/node_modules/.package-lock.json
	$(GO) generate ./...
	cd web && npm run --silent contract
	$(GO) run ./cmd/northstake schema > docs/declaration.schema.json
	$(GO) run ./cmd/northstake help --document > docs/keys.md

# The practice hosts' images are made beside each other, and while the programs are built.
demo:
	@$(MAKE) --no-print-directory -j2 images build
	@$(SUDO) env HOME="$$HOME" ./bin/demo up

images: deps bin/demo
	@$(SUDO) env HOME="$$HOME" ./bin/demo images

stop:
	@if [ -x bin/demo ]; then $(SUDO) env HOME="$$HOME" ./bin/demo stop; fi

clean:
	@if [ -x bin/demo ]; then $(SUDO) env HOME="$$HOME" ./bin/demo clean; fi
	@rm -rf bin web/node_modules
	@find service/console/dist -mindepth 1 ! -name .gitkeep -delete

# What is done many times over is done less often while races are looked for, and whole without.
OFTEN := TestNoHostIsLostOnTheWay|TestAWriterMissesNothing|TestLinksInATreeLeadNowhere|TestEveryEditOfARealTreeIsFound
test: deps rehearsal vet
	cd web && npm run --silent check
	$(AS_ROOT)1 $(GO) test -race -short -count=1 -timeout 20m $$($(GO) list ./... | grep -v -e /e2e -e /core/)
	$(AS_ROOT)0 $(GO) test -count=1 -timeout 20m ./core/...
	$(AS_ROOT)0 $(GO) test -count=1 -timeout 20m -run '$(OFTEN)' ./host/publish ./service/api
	$(AS_ROOT)0 $(GO) test -count=1 -timeout 60m -p 2 -parallel 3 ./e2e/...

# What a change is tried with first: no root, no host.
CHECKED := . ./core/... ./content/... ./docs/... ./cmd/northstake ./host/rod ./host/probe ./host/webserver ./service/contract ./service/auth
check: vet service/console/dist/index.html
	cd web && npm run --silent check
	$(GO) test -count=1 -timeout 5m $(CHECKED)

vet:
	@bad=$$(gofmt -l $$(git ls-files '*.go')); [ -z "$$bad" ] || { echo "gofmt -w $$bad"; exit 1; }
	$(GO) vet ./... && $(GO) vet -tags bench,keep,rehearse ./e2e/... ./cmd/rod

# The linters of .golangci.yml, which are built from source the first time: some minutes.
lint: vet
	$(GO) run github.com/golangci/golangci-lint/v2/cmd/golangci-lint@v2.15.0 run ./...

# One test, or several by a pattern, on practice hosts.
RUN ?= .
NAMED := ^func [A-Za-z0-9_]*($(subst ^,,$(subst $$,\b,$(firstword $(subst /, ,$(RUN))))))
e2e: deps rehearsal
	rooms=$$(grep -lrE '$(NAMED)' --include='*_test.go' e2e | xargs -r -n1 dirname | sort -u | sed 's|^|./|'); \
	[ -n "$$rooms" ] || { echo "no test in e2e is called $(RUN)" >&2; exit 2; }; \
	$(AS_ROOT)0 $(GO) test -count=1 -timeout 60m -p 1 -parallel 6 -run '$(RUN)' $$rooms

# Random walks with new seeds; one that fails is made shorter and tells its seed.
WALK_FOR ?= 1h
walk: deps rehearsal
	$(AS_ROOT)0 WALK_FOR=$(WALK_FOR) WALK_BEFORE="$$WALK_BEFORE" WALK_SHORTER=1 $(GO) test -count=1 -timeout 8h -run 'TestWalkOn$$' -v ./e2e/walk

# Every target for a minute; what reached something new is kept beside the tests.
fuzz: deps
	./e2e/fuzz.sh $(FUZZTIME)

bench: deps rehearsal
	$(AS_ROOT)0 $(GO) test -tags bench -count=1 -timeout 60m -run TestSpeed -v ./e2e/speed
