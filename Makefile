# Two commands do everything on a fresh Debian 12: `make demo` and `make test`. `make demo-real` needs ten minutes.
VENV := .venv
BIN := $(VENV)/bin
DATA_DIR ?= .demo
PORT ?= 8620
# `make demo LIFE=` starts with empty lines.
LIFE ?= --lived-in

# Confined readers start often, and cannot keep what they compile.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: setup console demo demo-real test test-fast lint fuzz bench clean

setup: $(VENV)/.installed

# The stamp is newer than what it was made from: a changed lock file installs anew.
$(VENV)/.installed: requirements.lock pyproject.toml scripts/system-packages scripts/find-python
	scripts/system-packages
	test -x $(BIN)/python || "$$(scripts/find-python)" -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -r requirements.lock
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
	touch $@

# The console: its packages when their lock changes, and the built files when a source or the API changes.
NODE := PATH="$(CURDIR)/$(BIN):$$PATH"
BUILT := src/bathotype/console_dist/index.html
console: $(BUILT)

console/node_modules/.installed: console/package-lock.json console/.npmrc $(VENV)/.installed
	cd console && $(NODE) npm ci --silent
	touch $@

console/src/api/schema.d.ts: $(VENV)/.installed $(shell find src/bathotype -name '*.py') console/node_modules/.installed
	mkdir -p .cache
	$(BIN)/python -W ignore scripts/openapi-document > .cache/openapi.json
	cd console && $(NODE) npx --no-install openapi-typescript ../.cache/openapi.json -o src/api/schema.d.ts >/dev/null

$(BUILT): console/src/api/schema.d.ts $(shell find console/src console/public -type f) console/index.html console/vite.config.ts console/tsconfig.json
	cd console && $(NODE) npm run --silent build >/dev/null

demo: setup console
	$(BIN)/bathotype demo --data-dir $(DATA_DIR) --port $(PORT) $(LIFE)

# In a folder of its own, which goes when it is over.
demo-real: setup
	@folder=$$(mktemp -d) && chmod 711 $$folder && trap 'rm -rf '$$folder EXIT && \
	$(BIN)/bathotype demo --real --data-dir $$folder

# Three processes, which wait some of the time, each given whole files; the modules that take longest first.
PYTEST := $(BIN)/python -m pytest -n 3 --dist loadfile --no-loadscope-reorder --durations 20 --durations-min 1

test: setup console
	cd console && $(NODE) npm test --silent
	$(PYTEST)

# For while one works: everything that needs no system of its own, and of the systems the main job.
test-fast: setup console
	$(PYTEST) tests/core tests/service tests/client tests/cli tests/system/test_main_job.py

lint: setup console/src/api/schema.d.ts
	$(BIN)/ruff check src tests bench
	$(BIN)/ruff format --check src tests bench
	$(BIN)/mypy
	$(BIN)/lint-imports --no-logo
	cd console && $(NODE) npx --no-install tsc --noEmit && $(NODE) npm run --silent lint
	cd console && $(NODE) npx --no-install spectral lint ../.cache/openapi.json -r ../.spectral.yaml --fail-severity warn --quiet

# Every reader of foreign bytes for so many seconds, then so many sequences of edits.
SECONDS ?= 300
SEQUENCES ?= 10000
fuzz: setup
	@for reader in $$($(BIN)/python -m tests.fuzz list); do $(BIN)/python -m tests.fuzz $$reader $(SECONDS) || exit 1; done
	$(BIN)/python -m tests.fuzz edits $(SEQUENCES)

bench: setup
	$(BIN)/python -m bench

clean:
	rm -rf $(VENV) $(DATA_DIR) .pytest_cache .mypy_cache .ruff_cache .hypothesis .import_linter_cache src/*.egg-info \
	  console/node_modules console/src/api/schema.d.ts src/bathotype/console_dist .cache
