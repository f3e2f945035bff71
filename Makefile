# `make demo` and `make test` set up all they need; see README.md.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
NEWEST := .venv-newest
PYTEST := -m pytest -n auto
export PIP_DISABLE_PIP_VERSION_CHECK := 1

.PHONY: demo test unit test-newest test-matrix test-under-load fuzz fmt lint bench docs dist screenshots system lock clean

demo: $(VENV)/ready
	sh tools/system.sh demo
	$(BIN)/coinjar demo

test: system $(VENV)/ready-to-test lint
	$(BIN)/python $(PYTEST)

# The fast lane: core, dialects, documents, rules, and commands that need no system.
unit: $(VENV)/ready-to-test
	$(BIN)/python $(PYTEST) -m unit $$(grep -l 'mark\.unit' tests/test_*.py)

# The same tests with the newest versions that pyproject.toml allows, instead of the locked ones.
test-newest: system
	rm -rf $(NEWEST)
	$(PYTHON) -m venv $(NEWEST)
	$(NEWEST)/bin/pip install --quiet --requirement requirements/build.in --editable '.[all,test,lint]'
	$(NEWEST)/bin/python $(PYTEST)

# The fast lane on every Python from 3.11 to 3.14 that is installed here.
test-matrix:
	for version in 3.11 3.12 3.13 3.14; do \
	for python in $$(command -v python$$version) $$HOME/.pyenv/versions/$$version.*/bin/python; do \
	[ -x "$$python" ] && "$$python" -c 'import venv' 2>/dev/null || continue; \
	rm -rf $(VENV)-$$version; "$$python" -m venv $(VENV)-$$version && \
	$(VENV)-$$version/bin/pip install --quiet --editable '.[all,test]' && \
	$(VENV)-$$version/bin/python $(PYTEST) -m unit || exit 1; echo "$$version: passed"; break; done; done

# The same tests beside eight busy loops.
test-under-load: system $(VENV)/ready-to-test
	for loop in 1 2 3 4 5 6 7 8; do $(BIN)/python -c 'while True: pass' & pids="$$pids $$!"; done; \
	$(BIN)/python $(PYTEST); code=$$?; kill $$pids; exit $$code

# Mutated samples for every reader of foreign bytes, two minutes in all.
fuzz: $(VENV)/ready-to-test
	$(BIN)/python tools/fuzz.py 120

fmt: $(VENV)/ready-to-test
	$(BIN)/ruff format src tests bench tools
	$(BIN)/ruff check --fix src tests bench tools

lint: $(VENV)/ready-to-test
	$(BIN)/ruff format --check src tests bench tools
	$(BIN)/ruff check src tests bench tools
	$(BIN)/mypy
	$(BIN)/lint-imports --no-logo 2>/dev/null || $(BIN)/lint-imports

bench: system $(VENV)/ready-to-test
	$(BIN)/python -m bench

docs: $(VENV)/ready-to-test
	$(BIN)/python tools/reference.py > docs/reference.md

# What is released, built twice and tried in an empty environment: dist/.
dist: $(VENV)/ready-to-test
	$(BIN)/python tools/dist.py

screenshots: $(VENV)/ready
	sh tools/system.sh screenshots
	PATH="$(abspath $(BIN)):$$PATH" bash tools/screenshots.sh docs/screenshots

system:
	sh tools/system.sh test

# The exact versions, with hashes, that demo and test install: the newest that pyproject.toml allows. docs/development.md says when.
lock:
	$(PYTHON) -m venv $(VENV)-lock
	$(VENV)-lock/bin/pip install --quiet 'uv>=0.9'
	for part in 'run --extra all' 'test --extra all --extra test --extra lint'; do set -- $$part; name=$$1; shift; \
	$(VENV)-lock/bin/uv pip compile pyproject.toml requirements/build.in "$$@" --universal --python-version 3.11 --upgrade \
	  --generate-hashes --no-emit-index-url --no-header --quiet --output-file requirements/$$name.txt || exit 1; done
	rm -rf $(VENV)-lock

$(VENV)/ready: pyproject.toml requirements/run.txt
	sh tools/system.sh run
	$(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --require-hashes --requirement requirements/run.txt
	$(BIN)/pip install --quiet --no-deps --no-build-isolation --editable .
	touch $@

$(VENV)/ready-to-test: $(VENV)/ready requirements/test.txt
	$(BIN)/pip install --quiet --require-hashes --requirement requirements/test.txt
	$(BIN)/pip install --quiet --no-deps --no-build-isolation --editable .
	touch $@

clean:
	rm -rf $(VENV) $(VENV)-3.* $(NEWEST) dist build
