# Everything starts here; see README.md. PYTHON may name another interpreter, 3.11 or newer.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
PIP := $(BIN)/pip install --quiet --disable-pip-version-check --require-hashes
DATA ?= data
PORT ?= 8017

.PHONY: demo env test-env browser test check core-tests web-tests e2e-tests bench assets screenshots clean

demo: $(VENV)/.run
	$(BIN)/nimbus-sweep demo --data $(DATA) --port $(PORT)

env: $(VENV)/.run

$(VENV)/.run: requirements/run.lock pyproject.toml
	@test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	@echo "Installing what Nimbus Sweep needs (once) ..."
	$(PIP) -r requirements/run.lock
	$(BIN)/pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation --editable .
	@touch $@

$(VENV)/.test: requirements/test.lock $(VENV)/.run
	@echo "Installing what the tests need (once) ..."
	$(PIP) --no-deps -r requirements/test.lock
	@touch $@

test-env: $(VENV)/.test

# Debian's Chromium, for the tests that drive a real browser.
browser:
	@command -v chromium >/dev/null || { apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq chromium >/dev/null; } \
	  || { echo "Chromium is missing and could not be installed. As root: apt-get install chromium" >&2; exit 1; }

check: test-env
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports --no-cache
	$(BIN)/python tools/assets.py --check

test: check browser
	OPENBLAS_NUM_THREADS=1 OMP_NUM_THREADS=1 $(BIN)/python -m pytest -q -n 2 --dist loadfile --no-loadscope-reorder tests/e2e tests

bench: test-env
	$(BIN)/python -m benchmarks $(ONLY)

# Rebuilds the shipped styles and fonts; the only thing that needs Node.
assets: test-env
	npm ci --ignore-scripts --no-audit --no-fund
	$(BIN)/python tools/assets.py

screenshots: test-env browser
	$(BIN)/python tools/screenshots.py

clean:
	rm -rf $(VENV) node_modules build *.egg-info
