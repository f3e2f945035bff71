# `make demo` and `make test` set up all they need; see README.md.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
export PIP_DISABLE_PIP_VERSION_CHECK := 1

.PHONY: demo test lint bench docs screenshots system clean

demo: $(VENV)/ready
	$(BIN)/coinjar demo

test: system $(VENV)/ready-to-test lint
	$(BIN)/python -m pytest -n auto

lint: $(VENV)/ready-to-test
	$(BIN)/ruff format --check src tests bench tools
	$(BIN)/ruff check src tests bench tools
	$(BIN)/mypy
	$(BIN)/lint-imports --no-logo 2>/dev/null || $(BIN)/lint-imports

bench: $(VENV)/ready-to-test
	$(BIN)/python -m bench

docs: $(VENV)/ready-to-test
	$(BIN)/python tools/reference.py > docs/reference.md

screenshots: $(VENV)/ready
	sh tools/system.sh screenshots
	PATH="$(abspath $(BIN)):$$PATH" bash tools/screenshots.sh docs/screenshots

system:
	sh tools/system.sh test

$(VENV)/ready: pyproject.toml
	sh tools/system.sh run
	$(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --upgrade 'pip>=24'
	$(BIN)/pip install --quiet --editable '.[all]'
	touch $@

$(VENV)/ready-to-test: $(VENV)/ready
	$(BIN)/pip install --quiet --editable '.[all,test,lint]'
	touch $@

clean:
	rm -rf $(VENV) dist build
