# What people call: make demo, make trial, make test, make build, make bench, make screenshots.

TAGS    := netgo,osusergo,sqlite_omit_load_extension
VERSION := $(shell git describe --tags --always --dirty 2>/dev/null || echo development)
GO      := go
export GOFLAGS += -trimpath
WEB     := $(shell find web/src web/public -type f ! -name schema.d.ts 2>/dev/null) web/index.html web/vite.config.ts
SOURCES := $(shell find cmd internal -name '*.go' -o -name '*.sql' 2>/dev/null) go.mod go.sum
CONSOLE := internal/httpd/console/dist/index.html

.PHONY: build demo trial dev test kill-rounds sweep-rounds fuzz check bench screenshots clean

# build leaves bin/warthesis: the service with its console, and the client.
build: bin/warthesis

bin/warthesis: $(SOURCES) $(CONSOLE)
	$(GO) build -tags $(TAGS) -ldflags '-s -w -X main.version=$(VERSION) -linkmode external -extldflags "-static"' -o $@ ./cmd/warthesis 2>build/link.log || (cat build/link.log; exit 1)

build/openapi.json: $(SOURCES)
	mkdir -p build
	$(GO) run -tags $(TAGS) ./cmd/openapi > $@.next
	cmp -s $@.next $@ || cp $@.next $@
	rm $@.next

web/node_modules/.installed: web/package.json web/package-lock.json
	cd web && npm install --no-save --no-audit --no-fund
	touch $@

web/src/api/schema.d.ts: build/openapi.json web/node_modules/.installed
	cd web && npm run -s types

$(CONSOLE): $(WEB) web/src/api/schema.d.ts web/node_modules/.installed
	cd web && npm run -s build

# demo serves the sample world on this machine until Ctrl-C.
demo: build
	bin/warthesis demo

# trial serves an empty registry without logins, on this machine alone, until Ctrl-C.
trial: build
	bin/warthesis serve --trial

# dev serves the sample world and the console, and starts or loads them anew when a
# file changes, until Ctrl-C.
dev: $(CONSOLE)
	./dev.sh

# check is all that reads the code without running it.
check: $(CONSOLE)
	@test -z "$$(gofmt -l cmd internal bench)" || (echo "gofmt would change:"; gofmt -l cmd internal bench; exit 1)
	$(GO) vet -tags $(TAGS) ./...
	$(GO) tool staticcheck -tags $(TAGS) ./...
	cd web && npm run -s check && npm run -s lint

# Where there is plenty of memory, tests have their folders in it: they wait for disks less.
QUICKLY := $(shell test "$$(df -Pk /dev/shm 2>/dev/null | awk 'NR == 2 { print int($$4 / 1048576) }')" -ge 12 2>/dev/null && echo TMPDIR=/dev/shm)

# test installs what is missing and runs everything.
test: tools-for-tests check build
	$(GO) build -race -tags $(TAGS) -o bin/warthesis-race ./cmd/warthesis
	$(QUICKLY) BINARY_UNDER_TEST=$(CURDIR)/bin/warthesis-race $(GO) test -count=1 -race -timeout 20m -p 3 -parallel 4 -tags $(TAGS) ./...

.PHONY: tools-for-tests tools-for-bench tools-for-screenshots
tools-for-tests:
	@command -v chromium >/dev/null || (apt-get update -qq && apt-get install -y -qq --no-install-recommends chromium)
	@command -v podman >/dev/null && command -v containerd >/dev/null || (apt-get update -qq && apt-get install -y -qq --no-install-recommends podman containerd)

tools-for-bench:
	@command -v nginx >/dev/null || (apt-get update -qq && apt-get install -y -qq --no-install-recommends nginx-light)

tools-for-screenshots: tools-for-tests
	@command -v xterm >/dev/null && command -v Xvfb >/dev/null && command -v import >/dev/null || \
		(apt-get update -qq && apt-get install -y -qq --no-install-recommends xterm xvfb imagemagick fonts-dejavu-core)

# kill-rounds kills the service a thousand times and looks each time what is left.
kill-rounds: build
	$(GO) build -race -tags $(TAGS) -o bin/warthesis-race ./cmd/warthesis
	KILL_ROUNDS=1000 BINARY_UNDER_TEST=$(CURDIR)/bin/warthesis-race $(GO) test -race -tags $(TAGS) -timeout 3h -run HoweverOften ./test/killed

# sweep-rounds holds sweeps against the model over many histories, and beside much else.
sweep-rounds: build
	$(GO) build -race -tags $(TAGS) -o bin/warthesis-race ./cmd/warthesis
	SWEEP_ROUNDS=400 $(GO) test -tags $(TAGS) -count=1 -timeout 1h -run PlainModel ./internal/sweep
	SWEEP_HAMMER=10000 BINARY_UNDER_TEST=$(CURDIR)/bin/warthesis $(GO) test -tags $(TAGS) -count=1 -timeout 1h -run BesideEverything ./test/sweeps

# fuzz looks for inputs that the readers of hostile text misread, half a minute each.
fuzz:
	@for target in oci:FuzzName oci:FuzzReference oci:FuzzManifest rule:FuzzPattern rule:FuzzRead httpd/protocol:FuzzRange httpd/protocol:FuzzChunkRange httpd/protocol:FuzzRoute; do \
		$(GO) test -tags $(TAGS) -run '^$$' -fuzz "^$${target#*:}\$$" -fuzztime 30s ./internal/$${target%:*} || exit 1; done

# bench prints the speed of this machine's build as ratios.
bench: tools-for-bench build
	$(GO) run -tags $(TAGS) ./bench -binary bin/warthesis
	$(GO) test -tags $(TAGS) -run '^$$' -bench Million/unheld -benchtime 3x ./internal/record
	$(GO) test -tags $(TAGS) -run '^$$' -bench OfAMillion -benchtime 1x ./internal/sweep
	$(GO) test -tags $(TAGS) -run '^$$' -bench Million/delete -benchtime 300x ./internal/record
	$(GO) test -tags $(TAGS) -run '^$$' -bench 'ThousandPatterns|HundredThousand' ./internal/rule
	$(GO) test -tags $(TAGS) -run '^$$' -bench AHundredRules ./internal/record
	$(GO) test -tags $(TAGS) -run '^$$' -bench BesideARun -benchtime 1x ./test 2>/dev/null

# screenshots takes the pictures of the documents anew, from the sample world.
screenshots: tools-for-screenshots build
	docs/screenshots.sh

clean:
	rm -rf bin build web/node_modules internal/httpd/console/dist/assets internal/httpd/console/dist/index.html
