# Nexlin. `make demo` and `make test` set up what they need.
GO ?= go
# One set of flags everywhere: what one command compiled, the next one need not.
export GOFLAGS += -trimpath
VERSION ?= 0.1.0-dev
export PATH := $(PATH):/sbin:/usr/sbin

.PHONY: build install demo test prove lint cross release bench screenshots clean

build:
	CGO_ENABLED=0 $(GO) build -ldflags "-s -w -X nexlin/internal/cli.version=$(VERSION)" -o bin/nexlin ./cmd/nexlin

# The program, its manual pages, and what shells complete by, below PREFIX.
PREFIX ?= /usr/local
share = $(DESTDIR)$(PREFIX)/share
install: build
	$(GO) run ./contrib/manual -dir build/manual
	install -d $(DESTDIR)$(PREFIX)/bin $(share)/man/man1 $(share)/bash-completion/completions \
		$(share)/zsh/site-functions $(share)/fish/vendor_completions.d $(share)/applications \
		$(share)/powershell/Modules/nexlin
	install -m 755 bin/nexlin $(DESTDIR)$(PREFIX)/bin/nexlin
	install -m 644 build/manual/man1/*.gz $(share)/man/man1
	install -m 644 build/manual/completions/nexlin.bash $(share)/bash-completion/completions/nexlin
	install -m 644 build/manual/completions/_nexlin $(share)/zsh/site-functions/_nexlin
	install -m 644 build/manual/completions/nexlin.fish $(share)/fish/vendor_completions.d/nexlin.fish
	install -m 644 build/manual/completions/nexlin.ps1 $(share)/powershell/Modules/nexlin/nexlin.psm1
	install -m 644 contrib/desktop/nexlin-move.desktop $(share)/applications/nexlin-move.desktop

demo: build
	bin/nexlin demo

# A linter that is fetched as a module, at the version it is used at.
staticcheck = honnef.co/go/tools/cmd/staticcheck@v0.8.2

# The matrices of kills and errors, and other long ones, which go beside the stories.
matrix = ^Test(Crash|Error|PowerCut|PulledIn|Model|Accounts|Handover|Hostile|Renames|Windows|Fleet|Drives|MoveGo)

# The packages in which anything runs beside anything else, in the tests too: there the
# race detector has something to detect.
raced = $(patsubst %,./%,$(sort $(patsubst %/,%,$(dir $(shell grep -lE 'go func|errgroup|WaitGroup' $$(find internal -name '*.go'))))))

# Never from the test cache: it does not see that the driven program changed.
# The race detector needs a C compiler; without one the tests run without it. Of
# the stories it watches the program that they drive, and not the driver: so all else
# is compiled without cgo, as the programs are. The matrices do again and again what the
# stories do once, so the program that they kill is without it, and so is that of the
# tests that are about one thing at a time.
# They take about six minutes on two cores that do nothing else, one of
# them for compiling; the limit is for what hangs.
test:
	@scripts/setup-test.sh
	@mkdir -p build && rm -f build/skips.txt
	@if command -v gcc >/dev/null 2>&1; then race=-race cgo=1; else race= cgo=0; echo "no C compiler: the race detector is off"; fi; \
	export CGO_ENABLED=0 NEXLIN_SKIPS=$(CURDIR)/build/skips.txt; \
	{ CGO_ENABLED=$$cgo $(GO) test -vet=off $$race -tags faults -count=1 -timeout 25m $(raced); raced=$$?; \
	$(GO) test -vet=off -tags faults -count=1 -timeout 25m $$($(GO) list ./... | grep -v /test$$ | grep -vFx "$$($(GO) list $(raced))") && exit $$raced; } \
		>build/packages.txt 2>&1 & packages=$$!; \
	NEXLIN_TEST_BUILT=$$(mktemp -d) && export NEXLIN_TEST_BUILT && trap 'rm -rf "$$NEXLIN_TEST_BUILT"' EXIT && chmod 755 "$$NEXLIN_TEST_BUILT" && \
	$(GO) build -o "$$NEXLIN_TEST_BUILT/nexlin/nexlin" ./cmd/nexlin && \
	$(GO) build -tags faults -o "$$NEXLIN_TEST_BUILT/nexlinfaults/nexlin" ./cmd/nexlin && \
	CGO_ENABLED=$$cgo $(GO) build $$race -tags faults -o "$$NEXLIN_TEST_BUILT/nexlinfaults$$race/nexlin" ./cmd/nexlin || exit 1; \
	$(GO) test -vet=off -count=1 -timeout 25m -run '$(matrix)' ./test >build/matrix.txt 2>&1 & matrix=$$!; \
	NEXLIN_TEST_RACE=$$race $(GO) test -vet=off -count=1 -parallel 3 -timeout 25m -skip '$(matrix)' ./test; status=$$?; \
	wait $$matrix || status=1; wait $$packages || status=1; cat build/matrix.txt build/packages.txt; \
	if [ -s build/skips.txt ]; then echo "skipped:"; sort build/skips.txt | uniq -c; else echo "skipped: nothing"; fi; \
	exit $$status

# Every card that has a proof, on the program itself; as root on Debian it installs the programs. The table in
# docs/cards.md is written anew.
prove:
	@scripts/setup-prove.sh
	CGO_ENABLED=0 NEXLIN_PROVE=all NEXLIN_WRITE_DOCS=1 $(GO) test -count=1 -timeout 60m -v -run TestProveCards ./test
	NEXLIN_WRITE_DOCS=1 $(GO) test -count=1 -run TestShippedCardsAreOfTheirText ./internal/card

lint:
	@test -z "$$(gofmt -l cmd contrib internal test)" || { gofmt -l cmd contrib internal test; echo "gofmt the files above"; exit 1; }
	$(GO) run ./contrib/lint
	$(GO) vet ./...
	$(GO) vet -tags faults ./...
	$(GO) run $(staticcheck) -tags faults ./...

# Built and vetted for every system that Nexlin is for, tests included.
cross:
	@for t in linux/amd64 linux/arm64 windows/amd64 windows/arm64 darwin/amd64 darwin/arm64; do \
		echo "build and vet $$t"; \
		CGO_ENABLED=0 GOOS=$${t%/*} GOARCH=$${t#*/} $(GO) build -o /dev/null ./cmd/nexlin && \
		CGO_ENABLED=0 GOOS=$${t%/*} GOARCH=$${t#*/} $(GO) vet ./... || exit 1; \
	done

# Archives for every system, a Debian package, checksums: build/release. KEY signs the checksums, URL
# is where the archives will be fetched from, for the manifests of collections of packages.
release:
	$(GO) run ./contrib/release -version $(VERSION) $(if $(KEY),-key $(KEY)) $(if $(URL),-url $(URL))

bench: build
	scripts/bench.sh

screenshots: build
	scripts/screenshots.sh

clean:
	rm -rf bin build
