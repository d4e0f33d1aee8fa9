# Every target makes its own virtual environment first: a fresh clone needs Python 3.11 or newer and make.
# The demo's holds the package alone; all others have the development tools too.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

# a server that speaks like Azure, for the tests of stores there; where npm is not, or brings nothing, they are skipped
SERVERS := build/servers

.PHONY: demo test lint bench prove fuzz shots reference dist clean

$(VENV)/package: pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --editable .
	touch $@

$(VENV)/installed: $(VENV)/package
	$(BIN)/pip install --quiet --editable ".[dev]"
	touch $@

$(SERVERS)/installed:
	mkdir -p $(SERVERS)
	npm install --silent --no-audit --no-fund --prefix $(SERVERS) azurite@3 || echo "no npm: tests of Azure are skipped"
	touch $@

demo: $(VENV)/package
	$(BIN)/pannier demo

test: lint $(SERVERS)/installed
	$(BIN)/pytest -n 3 --dist worksteal

lint: $(VENV)/installed
	$(BIN)/ruff check src tests bench fuzz prove examples
	$(BIN)/ruff format --check src tests bench fuzz prove examples
	$(BIN)/mypy

bench: $(VENV)/installed
	$(BIN)/python -m bench

prove: $(VENV)/installed
	$(BIN)/python -m prove

# every reader for twenty minutes: `make fuzz SECONDS=120` for less
SECONDS := 1200
fuzz: $(VENV)/installed
	$(BIN)/python -m fuzz --seconds $(SECONDS)

shots: $(VENV)/installed
	$(BIN)/python docs/shots.py

# a wheel and a source package, into dist/
dist: $(VENV)/installed
	$(BIN)/python -m build --outdir dist .

reference: $(VENV)/installed
	$(BIN)/python docs/reference.py

clean:
	rm -rf $(VENV) build dist src/*.egg-info
