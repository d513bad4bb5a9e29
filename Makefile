# Nexlin. `make demo` and `make test` set up what they need.
GO ?= go
GOFLAGS += -trimpath
VERSION ?= 0.1.0-dev
export PATH := $(PATH):/sbin:/usr/sbin

.PHONY: build demo test lint bench screenshots clean

build:
	CGO_ENABLED=0 $(GO) build $(GOFLAGS) -ldflags "-s -w -X nexlin/internal/cli.version=$(VERSION)" -o bin/nexlin ./cmd/nexlin

demo: build
	bin/nexlin demo

# Never from the test cache: it does not see that the driven program changed.
# The race detector needs a C compiler; without one the tests run without it.
test: lint
	@scripts/setup-test.sh
	@mkdir -p build && rm -f build/skips.txt
	@if command -v gcc >/dev/null 2>&1; then race=-race; else race=; echo "no C compiler: the race detector is off"; fi; \
	CGO_ENABLED=$$( [ -n "$$race" ] && echo 1 || echo 0 ) NEXLIN_SKIPS=$(CURDIR)/build/skips.txt \
		$(GO) test $$race -count=1 -timeout 20m ./...; status=$$?; \
	if [ -s build/skips.txt ]; then echo "skipped:"; sort build/skips.txt | uniq -c; else echo "skipped: nothing"; fi; \
	exit $$status

lint:
	@test -z "$$(gofmt -l cmd internal test)" || { gofmt -l cmd internal test; echo "gofmt the files above"; exit 1; }
	$(GO) vet ./...
	$(GO) vet -tags faults ./...

bench: build
	scripts/bench.sh

screenshots: build
	scripts/screenshots.sh

clean:
	rm -rf bin build
