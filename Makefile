# Each target makes what it needs: on a fresh machine only Python 3.11+ and make have to be there.
PYTHON ?= python3
VENV   ?= .venv
BIN    := $(VENV)/bin
READY  := $(VENV)/.ready

# compiled modules are kept, whatever the caller's habit: commands and workers start much sooner
export PYTHONDONTWRITEBYTECODE :=

# a worker for each core, and each with one thread: threads of their own would be in one another's
# way. Tests of threads ask for some, and `make full` leaves the number to the machine
ALONE := OMP_NUM_THREADS=1

.PHONY: demo test full quick identities check format lock lowest samples screenshots docs benchmarks clean

$(READY): pyproject.toml constraints.txt
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -c constraints.txt -e ".[dev]"
	@touch $(READY)

demo: $(READY)          ## the whole job on the sample data
	$(BIN)/joinery demo

test: $(READY)          ## every test, simulations with a quarter of their draws
	$(ALONE) $(BIN)/python -m pytest -n auto

full: $(READY)          ## every test with all draws and cases: some twenty minutes
	JOINERY_DRAWS=full $(BIN)/python -m pytest -n auto

quick: $(READY)         ## under a minute: no simulations, no other programs
	$(ALONE) $(BIN)/python -m pytest -n auto -m "not simulation and not engine" tests

identities: $(READY)    ## every question to thousands of random fits; CASES=500 for more
	$(BIN)/python -m tests.identities $(or $(CASES),100)

check: $(READY)         ## lint, format and types
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy

format: $(READY)
	$(BIN)/ruff check --fix-only --quiet . ; $(BIN)/ruff format .

lock: $(READY)          ## write what is installed now into constraints.txt
	$(BIN)/python -m pip freeze --exclude-editable > constraints.txt

lowest:                 ## the tests against the oldest versions that pyproject.toml admits
	$(PYTHON) -m venv .venv-lowest
	.venv-lowest/bin/python -m pip install --quiet uv
	.venv-lowest/bin/uv pip install --quiet --python .venv-lowest/bin/python --resolution lowest-direct -e ".[test]"
	.venv-lowest/bin/python -m pytest -n auto -W default

samples: $(READY)       ## make the sample tables again
	$(BIN)/python -m joinery.data.samples.make

screenshots: $(READY)   ## draw docs/screenshots again
	$(BIN)/python docs/screenshots/make.py

docs: $(READY)          ## the site, into build/site
	NO_MKDOCS_2_WARNING=1 $(BIN)/mkdocs build --strict --quiet -d build/site

benchmarks: $(READY)    ## ratios against plain linear algebra
	$(BIN)/python -m benchmarks

clean:
	rm -rf $(VENV) .venv-lowest .mypy_cache .ruff_cache build dist joinery-demo
