# Everything runs in a virtual environment of its own, made on first use from pinned versions.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
READY := $(VENV)/.ready

.PHONY: demo test lint package soak bench clean

$(READY): pyproject.toml constraints.txt
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet -c constraints.txt --upgrade pip
	$(BIN)/python -m pip install --quiet --no-compile -c constraints.txt -e ".[dev]"
	$(BIN)/tachys --warm
	touch $(READY)

demo: $(READY)           ## the whole job on shipped data
	$(BIN)/tachys demo row-unit

test: $(READY)           ## all tests, a file to each core
	$(BIN)/python -m pytest -n auto --dist loadfile

lint: $(READY)           ## style and types
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy

package: $(READY)        ## wheel and source archive, installed by themselves, with the oldest and the newest Python here
	$(BIN)/python tests/package.py

MODELS ?= 20000
soak: $(READY)           ## the attack on the bounds (MODELS=100000 for long, CLUSTER=ADDRESS elsewhere), then the property tests, for long
	$(BIN)/python tests/soak.py --models $(MODELS) $(if $(CLUSTER),--cluster $(CLUSTER))
	$(BIN)/python tests/fuzz.py --cases $(MODELS)
	$(BIN)/python -m pytest tests/test_soundness.py tests/test_simulation.py tests/test_reading.py --hypothesis-profile=soak
	$(BIN)/python -m pytest tests/test_board_truth.py --boards 1000
	$(BIN)/python -m pytest -n auto tests --boards 60 --seeds 1000
	$(BIN)/python -m pytest tests/test_priorities.py --sets 1000 --routines 7

bench: $(READY)          ## speeds, measured on this machine
	$(BIN)/python bench/table.py
	$(BIN)/python bench/bounds.py
	$(BIN)/python bench/engine.py
	$(BIN)/python bench/captures.py --gib
	$(BIN)/python bench/checking.py --gib
	$(BIN)/python bench/trying.py

clean:
	rm -rf $(VENV) row-unit build .pytest_cache .mypy_cache .ruff_cache .hypothesis
