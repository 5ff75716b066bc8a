# Everything starts here; see README.md. PYTHON may name another interpreter, 3.11 or newer.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
PIP := $(BIN)/pip install --quiet --disable-pip-version-check --require-hashes
DATA ?= data
PORT ?= 8017

.PHONY: demo env test-env js-env browser test check quick bench assets screenshots clean

demo: $(VENV)/.run
	@$(BIN)/nimbus-sweep demo --data $(DATA) --port $(PORT)

env: $(VENV)/.run

$(VENV)/.run: requirements/run.lock pyproject.toml
	@test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	@echo "Installing the libraries Nimbus Sweep needs, about 750 MB. This is done once and takes one to three minutes ..."
	@$(PIP) -r requirements/run.lock
	@$(BIN)/pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation --editable .
	@echo "Compiling the loops that are compiled, about a minute and a half ..."
	@$(BIN)/nimbus-sweep warm
	@touch $@

$(VENV)/.test: requirements/test.lock $(VENV)/.run
	@echo "Installing what the tests need, about half a minute ..."
	@$(PIP) --no-deps -r requirements/test.lock
	@touch $@

test-env: $(VENV)/.test

# What checks the scripts, from the npm registry; the application itself needs no Node.
node_modules/.installed: package-lock.json
	@command -v npm >/dev/null || { echo "npm is missing, which brings what checks the scripts. As root: apt-get install npm" >&2; exit 1; }
	@echo "Installing what checks the scripts, some seconds ..."
	@npm ci --ignore-scripts --no-audit --no-fund --silent
	@touch $@

js-env: node_modules/.installed

# Debian's Chromium and nginx, for the tests that drive a real browser.
browser:
	@{ command -v chromium && { command -v nginx || test -x /usr/sbin/nginx; }; } >/dev/null || { echo "Installing Chromium and nginx, about half a minute ..."; \
	  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq chromium nginx-light >/dev/null; } \
	  || { echo "Chromium or nginx is missing and could not be installed. As root: apt-get install chromium nginx-light" >&2; exit 1; }

check: test-env js-env
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports --no-cache
	node_modules/.bin/biome ci --log-level=warn
	$(BIN)/python tools/assets.py --check

ONE_THREAD := OPENBLAS_NUM_THREADS=1 OMP_NUM_THREADS=1

# After a change: all that checks without running, and the tests of the computation not marked slow.
quick: check
	$(ONE_THREAD) $(BIN)/python -m pytest -q -n 2 -m "not slow and not sweep" tests/core tests/store

test: check browser
	$(ONE_THREAD) $(BIN)/python -m pytest -q -n 2 --dist loadfile --no-loadscope-reorder --durations=25 tests/e2e tests

bench: test-env
	$(BIN)/python -m benchmarks $(ONLY)

# Rebuilds the shipped styles and fonts; the only thing that needs Node.
assets: test-env js-env
	$(BIN)/python tools/assets.py

screenshots: test-env browser
	$(BIN)/python tools/screenshots.py

clean:
	rm -rf $(VENV) node_modules build *.egg-info
