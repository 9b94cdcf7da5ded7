# Two commands: `make demo` and `make test` do all set-up on a fresh machine.

SHELL := /bin/bash
.DEFAULT_GOAL := help

# What the engines, the build and the tests need from Debian.
RUN_PACKAGES  := espeak-ng flite pocketsphinx pocketsphinx-en-us
BUILD_PACKAGES := build-essential cmake pkg-config nodejs npm
TEST_PACKAGES := curl python3 faketime chromium chromium-driver sox flac vorbis-tools opus-tools lame ffmpeg
# A machine with its own Node.js needs none of Debian's.
HAS_NODE := $(shell command -v node >/dev/null && command -v npm >/dev/null && echo yes)
ifeq ($(HAS_NODE),yes)
BUILD_PACKAGES := $(filter-out nodejs npm,$(BUILD_PACKAGES))
endif

CONSOLE_SOURCES := $(shell find console/src console/public client -type f -not -name schema.ts 2>/dev/null) \
	console/index.html console/vite.config.ts console/tsconfig.json docs/openapi.json

.PHONY: help demo build test lint advisories mutants soak fuzz-api console packages test-packages bench bench-compare bench-gateway bench-ledger bench-streams bench-live bench-voices bench-markup bench-long bench-words screenshots clean

help: ## Show what can be made
	@grep -hE '^[a-z-]+:.*##' $(MAKEFILE_LIST) | sed -E 's/^([a-z-]+):.*## (.*)/  make \1\t\2/' | expand -t 22

demo: build ## Install, build and run the service with demo data
	./target/release/dispatcher demo

build: packages console ## Build the release binary with the console inside
	cargo build --release --locked -p dispatcher-cli

test: test-packages console ## Install what tests need and run everything
	cd console && npm run --silent check && npm run --silent test
	cargo build --locked --workspace --all-targets
	cargo test --locked --workspace

lint: console ## Check formatting, lints, types, licences and sources
	cargo fmt --all --check
	cargo clippy --locked --workspace --all-targets -- -D warnings
	@for feature in "" aac flac mp3 mp4 opus vorbis webm; do \
		cargo clippy --quiet --locked -p dispatcher-audio --no-default-features --features "$$feature" -- -D warnings || exit 1; \
	done
	cd console && npm run --silent check
	@command -v cargo-deny >/dev/null || cargo install --locked cargo-deny
	cargo deny --locked --offline check licenses bans sources
	@command -v cargo-machete >/dev/null || cargo install --locked cargo-machete
	cargo machete
	node scripts/third-party.mjs --check
	@echo "advisories and signatures are not checked here, since both ask hosts on the internet: make advisories"

advisories: console ## Check known weaknesses and the signatures of packages; needs the internet
	@command -v cargo-deny >/dev/null || cargo install --locked cargo-deny
	cargo deny --locked check advisories
	cd console && npm audit signatures

mutants: ## Plant faults in one crate and list those that its tests miss: make mutants CRATE=vault
	@test -n "$(CRATE)" || { echo "name a crate: make mutants CRATE=vault" >&2; exit 1; }
	@command -v cargo-mutants >/dev/null || cargo install --locked cargo-mutants
	@mkdir -p target/mutants
	cargo mutants --package dispatcher-$(CRATE) --output target/mutants/$(CRATE) --no-times --colors never

soak: test-packages console ## Twenty minutes of random weather over every engine with 200 callers, then 50 kills and four times the load
	CHAOS_SECONDS=1200 CHAOS_CALLERS=200 cargo test --locked -p dispatcher-e2e --test all chaos -- --nocapture
	EXCHANGES=500 cargo test --locked -p dispatcher-e2e --test all exchanges::nobody -- --nocapture
	KILLS=50 cargo test --locked -p dispatcher-e2e --test all killed -- --nocapture
	ALONE=1 cargo test --locked -p dispatcher-e2e --test all overload -- --nocapture --test-threads 1

fuzz-api: build ## Send made-up requests to every call of the API; what is not in its document is a fault
	scripts/fuzz-api.sh

console: console/dist/index.html ## Build the console

console/node_modules/.package-lock.json: console/package-lock.json
	cd console && npm ci --ignore-scripts --no-audit --no-fund

console/dist/index.html: console/node_modules/.package-lock.json $(CONSOLE_SOURCES)
	cd console && npm run --silent types && npm run --silent build

packages: ## Install the Debian packages that are missing
	@scripts/packages.sh $(BUILD_PACKAGES) $(RUN_PACKAGES)

test-packages: ## The same, with what tests need
	@scripts/packages.sh $(BUILD_PACKAGES) $(RUN_PACKAGES) $(TEST_PACKAGES)

bench: build ## Measure memory, start time and first audio against direct
	cargo run --release --locked -p dispatcher-benches

bench-gateway: build ## Measure requests a second against a bare proxy and nginx, and first audio
	@scripts/packages.sh wrk nginx-light
	cargo build --release --locked -p dispatcher-benches
	./target/release/gateway
	./target/release/dispatcher-benches

bench-ledger: ## Measure reports on ten million ledger entries, and a statement of 100,000 lines
	cargo run --release --locked -p dispatcher-benches --bin ledger

bench-streams: build ## Measure the memory of transcoders, and of a thousand streams at once
	cargo run --release --locked -p dispatcher-benches --bin streams

bench-live: build ## Measure 2,000 live sessions at once: how late results come, and memory
	cargo run --release --locked -p dispatcher-benches --bin live

bench-voices: build ## Measure the search among 100,000 voices, in the core and through HTTP
	cargo bench --locked -p dispatcher-benches --bench search
	cargo run --release --locked -p dispatcher-benches --bin voices

bench-markup: ## Measure reading and lowering a script of a megabyte against bare XML events
	cargo bench --locked -p dispatcher-benches --bench markup

bench-long: build ## Measure first audio of long texts, and of live calls beside queued jobs
	cargo run --release --locked -p dispatcher-benches --bin long

bench-words: build ## Measure what speed costs a recogniser, in words, with local engines
	cargo run --release --locked -p dispatcher-benches --bin words

bench-compare: test-packages ## Measure codecs against the formats' own commands
	cargo run --release --locked -p dispatcher-benches --bin compare

screenshots: build ## Take the pictures of docs/screenshots anew
	scripts/screenshots.sh

clean: ## Remove what was built
	cargo clean
	rm -rf console/dist console/node_modules
