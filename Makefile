# Two commands are enough: `make demo` and `make test`. Both set up what they need.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
PIP := $(BIN)/python -m pip install --quiet --disable-pip-version-check
INTO ?= coldharbour

.PHONY: demo test check bench clean

demo: $(VENV)/analysis.done
	$(BIN)/lean-tumbler demo --into $(INTO)

test: $(VENV)/test.done
	tests/programs.sh
	$(BIN)/python -m pytest -n 3 --dist worksteal

check: $(VENV)/test.done
	$(BIN)/ruff check
	$(BIN)/ruff format --check
	$(BIN)/mypy

bench: $(VENV)/test.done
	$(BIN)/python benchmarks/run.py

clean:
	rm -rf $(VENV) build dist

$(VENV)/bin/python:
	$(PYTHON) -m venv $(VENV)

$(VENV)/analysis.done: $(VENV)/bin/python pyproject.toml
	$(PIP) --editable '.[analysis]'
	touch $@

$(VENV)/test.done: $(VENV)/bin/python pyproject.toml
	$(PIP) --editable '.[all,test]'
	touch $@ $(VENV)/analysis.done
