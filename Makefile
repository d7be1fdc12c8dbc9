.PHONY: demo demo-reset test bench fuzz fmt lint css build

# A codec that the web framework would bring, which nothing here speaks, takes as long to build as a quarter of the rest.
export GOFLAGS := $(GOFLAGS) -tags=nomsgpack

demo:
	@scripts/demo.sh

demo-reset:
	@scripts/demo.sh --reset

test:
	@scripts/test.sh

bench:
	@scripts/bench.sh

# SQLite's own hostile databases, and one target for long: make fuzz TARGET=core/salvage:FuzzRows TIME=1h
TARGET ?= core/salvage:FuzzRows
TIME ?= 10m
fuzz:
	@scripts/fuzz.sh $(TARGET) $(TIME)

fmt: node_modules
	gofmt -w cmd core internal
	node scripts/templates.mjs $$(find internal -name '*.html')
	npx prettier --log-level warn --write 'e2e/**/*.mjs' 'scripts/*.mjs' internal/web/static/crosswind.js internal/web/static/list.js internal/web/static/chart.js internal/web/static/pagemap.js

lint: node_modules
	test -z "$$(gofmt -l cmd core internal)"
	go vet ./...
	go tool staticcheck ./...
	node scripts/templates.mjs --check $$(find internal -name '*.html')
	npx prettier --log-level warn --check 'e2e/**/*.mjs' 'scripts/*.mjs' internal/web/static/crosswind.js internal/web/static/list.js internal/web/static/chart.js internal/web/static/pagemap.js

css: node_modules
	scripts/css.sh

node_modules: package-lock.json
	npm ci --no-audit --no-fund --loglevel=error
	@touch node_modules

build:
	go build -o bin/crosswind ./cmd/crosswind
