# make demo and make test work on a fresh machine with Go, Node 20 and, for what is
# not Go or npm, Debian's apt as root; without root they say what to install.

VERSION ?= $(shell git describe --tags --always --dirty 2>/dev/null || echo development)
BINARY  := build/nexocumula
GOFILES := $(shell find . -name '*.go' -not -path './web/node_modules/*')
DEMO_CONFIGS := $(shell find internal/demo/configs -type f)
WEB     := $(shell find web/src web/public -type f -not -name '*.gen.ts') web/index.html web/package-lock.json web/vite.config.ts api/openapi.yaml
export CGO_ENABLED := 0
# The same flags everywhere, so that nothing is compiled twice.
export GOFLAGS := $(GOFLAGS) -trimpath

.PHONY: torture test-long test-release demo test build release bench lint fmt screenshots tools debian clean

demo: build
	$(BINARY) demo --dir build/demo $(DEMO)

build: $(BINARY)

$(BINARY): web/dist/index.html $(GOFILES) $(DEMO_CONFIGS) go.mod go.sum api/openapi.yaml
	go build -ldflags '-s -w -X main.version=$(VERSION)' -o $@ ./cmd/nexocumula

web/node_modules/.done: web/package.json web/package-lock.json | tools
	cd web && npm ci --no-audit --no-fund --loglevel=error
	touch $@

web/dist/index.html: web/node_modules/.done $(WEB)
	cd web && npm run --silent build -- --logLevel warn
	touch web/dist/.keep $@

# The tests need a browser and peers that nobody here wrote. Where goroutines share most,
# they run under the race detector as well, which needs a C compiler. Many wait more than
# they compute, so four packages are tested at a time; those that wait longest come first.
# The detector leaves out SQLite, which was translated from C: looking at each of its steps takes five times as long.
RACED := -gcflags='modernc.org/...=-d=checkptr=0' -gcflags='modernc.org/sqlite/lib=-race=false -d=checkptr=0' ./internal/access ./internal/store/... ./internal/gateway/... ./internal/central ./internal/uplink/... ./internal/requests ./internal/clock ./internal/supervision
test: debian lint
	cd web && npm run --silent test
	NEXOCUMULA_BINARY=$(CURDIR)/$(BINARY) go test -p 4 -timeout 40m ./test/... ./...
	CGO_ENABLED=1 go test -race -short -p 4 -timeout 40m $(RACED)

# The random tests at their full length, and beyond: ROUNDS times as long as in make test.
ROUNDS := 10
test-long: debian build
	NEXOCUMULA_TEST_ROUNDS=$(ROUNDS) NEXOCUMULA_BINARY=$(CURDIR)/$(BINARY) go test -timeout 6h ./internal/...

# Kills, power cuts and damage at length, by seeds: TORTURE times as often as in make test. Each prints what it found.
TORTURE := 25
torture: debian build
	NEXOCUMULA_TEST_ROUNDS=$(TORTURE) NEXOCUMULA_BINARY=$(CURDIR)/$(BINARY) go test -v -count=1 -p 1 -timeout 6h ./test/e2e ./internal/store ./internal/uplink/overhttp \
		-run 'KillsLose|PowerCut|NoDamage|SurvivesSIGKILL|EverySchedule'

lint: build
	@unformatted=$$(gofmt -l $(GOFILES)); if [ -n "$$unformatted" ]; then echo "not formatted, run make fmt:"; echo "$$unformatted"; exit 1; fi
	go vet ./...
	go tool staticcheck ./...
	cd web && npm run --silent check

fmt:
	gofmt -w $(GOFILES)
	cd web && npm run --silent format

# A static binary for each kind of machine. The same commit gives the same bytes, wherever and whenever it is made.
RELEASE := build/release
MACHINES := amd64 arm64 armv7 386 riscv64
release: web/dist/index.html
	rm -rf $(RELEASE) && mkdir -p $(RELEASE)
	@for machine in $(MACHINES); do \
		arch=$${machine%v7}; \
		echo "linux-$$machine"; \
		GOOS=linux GOARCH=$$arch GOARM=7 go build -buildvcs=false -ldflags '-s -w -buildid= -X main.version=$(VERSION)' \
			-o $(RELEASE)/nexocumula-$(VERSION)-linux-$$machine ./cmd/nexocumula || exit 1; \
	done
	cp LICENSE CHANGELOG.md $(RELEASE)
	cd $(RELEASE) && sha256sum nexocumula-* LICENSE CHANGELOG.md > SHA256SUMS

# The binaries again, elsewhere and without what is cached, have to be the same; and those of other machines play the
# demo's whole story in an emulator.
test-release: PACKAGES := qemu-user-static
test-release: debian release
	rm -rf build/again && git clone -q . build/again
	cd build/again && GOCACHE=$(CURDIR)/build/again/cache $(MAKE) --no-print-directory release VERSION=$(VERSION) RELEASE=release
	cmp $(RELEASE)/SHA256SUMS build/again/release/SHA256SUMS
	rm -rf build/again
	for machine in arm64:aarch64 armv7:arm; do \
		qemu-$${machine#*:}-static $(RELEASE)/nexocumula-$(VERSION)-linux-$${machine%:*} demo --tour --history-days 1 --dir build/tour || exit 1; \
	done

bench: build
	go run ./bench build/bench.json

screenshots: debian build
	mkdir -p docs/screenshots
	go run ./test/screenshots $(BINARY) docs/screenshots

tools:
	@command -v go >/dev/null || { echo "Go 1.26 or newer is needed: https://go.dev/dl"; exit 1; }
	@command -v npm >/dev/null || { echo "Node 20.19 or newer with npm is needed"; exit 1; }

PACKAGES := chromium curl strace procps openssl bash-completion zsh fish mosquitto mosquitto-clients python3-pymodbus python3-serial-asyncio python3-paho-mqtt python3-protobuf python3-cbor2 python3-zstandard python3-xxhash protobuf-compiler gcc libc6-dev libmodbus-dev socat
debian:
	@missing=""; for p in $(PACKAGES); do dpkg -s $$p >/dev/null 2>&1 || missing="$$missing $$p"; done; \
	if [ -n "$$missing" ]; then \
		if [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null; then \
			apt-get update -q && DEBIAN_FRONTEND=noninteractive apt-get install -y -q --no-install-recommends $$missing; \
		else echo "the tests need these Debian packages; as root: apt-get install$$missing"; exit 1; fi; fi

clean:
	rm -rf build web/dist/* web/node_modules
