# Everything that is built and tested. Each target does its own set-up on a fresh Debian machine with Go and Node.
SHELL := /bin/bash
VERSION := $(shell git describe --tags --always --dirty 2>/dev/null || echo unknown)
LDFLAGS := -s -w -X nurvik/internal/version.Number=$(VERSION)
CONSOLE_SOURCES := $(shell find console/src console/public -type f 2>/dev/null) console/index.html console/vite.config.ts console/tsconfig.json
WORKBENCH_SOURCES := $(shell find core internal/workbench cmd/nurvik-wasm -name '*.go' -o -name '*.yaml')
NPM := npm --prefix console --no-fund --no-audit --loglevel=error

.PHONY: demo test test-servers bench bench-service bench-ingest bench-workers build package lint fuzz fuzz-files mutants docs notice soak clean check-console

# The simulated harbour, audited. ONCE=1 ends after the result. FLAGS are passed on, such as FLAGS="--listen 127.0.0.1:9000".
demo:
	@scripts/ensure postgresql ca-certificates
	@$(MAKE) --no-print-directory build
	@exec bin/nurvikd demo $(if $(ONCE),--once) $(FLAGS)

build: console/dist/app/workbench/nurvik.wasm
	@CGO_ENABLED=0 go build -trimpath -ldflags '$(LDFLAGS)' -o bin/ ./cmd/...

# The Debian packages nurvik and nurvikd, in bin/packages.
package: build
	@rm -rf bin/packages && scripts/package

# Every test that needs no foreign server.
test:
	@# The Java runtime makes Debian's Java store, which is a keystore to read.
	@scripts/ensure postgresql ca-certificates chromium ca-certificates-java default-jre-headless tshark openssl gnutls-bin patch prometheus
	@$(MAKE) --no-print-directory check-console build
	@# One package at a time: several start databases, browsers and estates of their own.
	go test -count=1 -p 2 -timeout 25m ./...

# Against servers of Debian, which are installed for it; each runs from a directory and a configuration of its own.
SERVERS := nginx apache2 haproxy postfix dovecot-imapd dovecot-pop3d dovecot-lmtpd dovecot-managesieved slapd vsftpd prosody postgresql mariadb-server default-jdk-headless lighttpd lighttpd-mod-openssl libgnutls-dane0 libidn12 libdb5.3
test-servers:
	@[ "$(CI)" = true ] || [ "$(YES)" = 1 ] || { echo "This installs $(SERVERS), starting none as system services. Say YES=1 to go on: make test-servers YES=1"; exit 2; }
	@scripts/ensure adduser $(SERVERS)
	@scripts/exim .cache/exim
	@$(MAKE) --no-print-directory build
	go test -count=1 -tags servers ./servers

check-console: console/node_modules/.package-lock.json console/src/api/schema.d.ts
	@$(NPM) run --silent check
	@$(NPM) run --silent test

# Formatting, vet, staticcheck and the types of the console.
lint: console/node_modules/.package-lock.json console/src/api/schema.d.ts
	@unformatted=$$(gofmt -l $$(git ls-files '*.go')); [ -z "$$unformatted" ] || { echo "not formatted: $$unformatted"; exit 1; }
	@scripts/columns
	@go run ./scripts/notice -check
	go vet ./... && go vet -tags servers ./servers && go vet -tags soak ./acceptance
	go tool staticcheck ./...
	@$(NPM) run --silent check

# Measures against a floor that is run beside, and ends with 1 when a limit is missed.
bench:
	@go run ./bench

# Measures the service's lists on an estate that it generates: SCALE=1 is a million endpoints, 0.1 a tenth.
bench-service:
	@scripts/ensure postgresql
	@go run ./bench/service

# Measures whole audits whose visits cost nothing: planning, storing, judging. ENDPOINTS=10000 by default.
bench-ingest:
	@scripts/ensure postgresql
	@go run ./bench/service ingest

# Measures an audit by one worker process and by four, of servers that answer late. ENDPOINTS=384 by default.
bench-workers:
	@scripts/ensure postgresql
	@$(MAKE) --no-print-directory build
	@go run ./bench/service workers

SOAK ?= 10m
KILLS ?= 100
# The service beside hostile endpoints, holdings and callers, and killed again and again.
soak:
	@scripts/ensure postgresql ca-certificates
	@$(MAKE) --no-print-directory build
	SOAK=$(SOAK) KILLS=$(KILLS) go test -count=1 -tags soak -v -timeout 90m -run 'Soak|Kills' ./acceptance

TIME ?= 30s
# Every fuzz target for TIME each.
fuzz:
	@scripts/fuzz $(TIME)

# Mutated files of the harbour's machines through the five commands, for TIME.
fuzz-files:
	NURVIK_CAMPAIGN=$(TIME) go test -count=1 -v -timeout 0 -run MutatedFiles ./internal/cli

PACKAGE ?= core/chain
# One comparison or constant of PACKAGE changed at a time: a change that no test notices is listed with its reason, or
# fails. ONLY=TEXT tries those that contain the text.
mutants:
	@go run ./scripts/mutants $(if $(ONLY),-only '$(ONLY)') $(PACKAGE)

# The licences of everything that is linked or embedded.
notice: console/node_modules/.package-lock.json
	@go run ./scripts/notice

# Documents that are made from the code.
docs:
	@go test -count=1 ./internal/report ./internal/service/web ./internal/daemon -run 'Document|Catalogue' -update

console/node_modules/.package-lock.json: console/package.json console/package-lock.json
	@scripts/ensure
	@$(NPM) ci >/dev/null
	@touch $@

console/src/api/schema.d.ts: docs/openapi.json console/node_modules/.package-lock.json
	@$(NPM) run --silent api >/dev/null
	@touch $@

console/dist/app/index.html: console/node_modules/.package-lock.json console/src/api/schema.d.ts $(CONSOLE_SOURCES)
	@$(NPM) run --silent build -- --logLevel warn
	@touch $@

# The core for the workbench page, and the runtime that Go ships for it.
console/dist/app/workbench/nurvik.wasm: console/dist/app/index.html $(WORKBENCH_SOURCES)
	@mkdir -p $(@D)
	@cp "$$(go env GOROOT)/lib/wasm/wasm_exec.js" $(@D)/
	@GOOS=js GOARCH=wasm go build -trimpath -ldflags '-s -w' -o $@ ./cmd/nurvik-wasm

clean:
	rm -rf bin console/dist/app console/node_modules console/src/api/schema.d.ts
