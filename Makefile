# Every command makes what it needs first: a fresh machine needs Python 3.11 and make only.
PYTHON ?= python3.11
VENV := .venv
BIN := $(VENV)/bin

.PHONY: demo test check bench trial mutants shots assets lock setup fmt clean

demo: $(VENV)/.app
	$(BIN)/upright-heron demo

test: setup
	tools/browser.sh
	tools/node.sh
	tools/meshes.sh
	$(BIN)/python tools/run_tests.py

check: setup
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/python tools/assets.py --check
	tools/scripts.sh

bench: setup
	tools/browser.sh
	$(BIN)/python bench/run.py

trial: setup
	$(BIN)/python tools/trial.py

# What is drawn and what tests reach is kept in var/mutants.
mutants: setup
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -r requirements-mutants.lock
	$(BIN)/python tools/mutants.py

shots: setup
	tools/browser.sh
	$(BIN)/python tools/shots.py

# Needs npm; the result is committed, so that running and testing do not.
assets: setup
	$(BIN)/python tools/assets.py

# Pins for everything that is installed; made by uv.
lock: setup
	$(BIN)/uv pip compile --quiet --no-emit-index-url --no-annotate --python-version 3.11 pyproject.toml -o requirements.lock
	$(BIN)/uv pip compile --quiet --no-emit-index-url --no-annotate --python-version 3.11 --extra dev -c requirements.lock pyproject.toml -o requirements-dev.lock
	$(BIN)/uv pip compile --quiet --no-emit-index-url --no-annotate --python-version 3.11 --extra mutants -c requirements-dev.lock pyproject.toml -o requirements-mutants.lock

fmt: setup
	$(BIN)/ruff check --fix .
	$(BIN)/ruff format .

setup: $(VENV)/.dev

$(VENV)/.app: requirements.lock pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -r requirements.lock
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps -e .
	touch $@

$(VENV)/.dev: requirements-dev.lock $(VENV)/.app
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -r requirements-dev.lock
	touch $@

clean:
	rm -rf $(VENV) .meshes var .mypy_cache .ruff_cache .hypothesis node_modules
