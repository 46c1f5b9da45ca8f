# Every target does its own set-up: the virtual environment and the exact versions of requirements.lock.
PYTHON ?= python3
VENV := .venv
READY := $(VENV)/.ready

.PHONY: demo test lint format bench faults fuzz mutate screenshots clean

demo: $(READY)
	@$(VENV)/bin/oast demo

test: $(READY)
	@$(VENV)/bin/python tests/run.py

lint: $(READY)
	@$(VENV)/bin/ruff check .
	@$(VENV)/bin/ruff format --diff --quiet .
	@$(VENV)/bin/mypy
	@$(VENV)/bin/python tests/run.py wording

format: $(READY)
	@$(VENV)/bin/ruff format .
	@$(VENV)/bin/ruff check --fix .

bench: $(READY)
	@$(VENV)/bin/python bench/run.py

# A thousand disturbed rounds, every step of the journal, and fifty healthy networks: about three hours on two cores.
faults: $(READY)
	@cd tests && OAST_FAULTS=120 OAST_ROUNDS=1000 OAST_SEEDS=50 ../$(VENV)/bin/python -m unittest test_killed test_disturbed test_seeded_faults test_odd_systems test_healthy test_misconfigured test_bring_up

# 100,000 odd inputs and 1,000 hostile sessions: about an hour on two cores. FUZZ="--minutes 10" ends earlier, with what was tried by then.
fuzz: $(READY)
	@$(VENV)/bin/python bench/fuzz.py $(FUZZ)

# Takes rules out of the code, one at a time, and counts which the fast tests miss. MUTATE="--each 10 change/" tries more of some.
mutate: $(READY)
	@$(VENV)/bin/python bench/mutate.py $(MUTATE)

# Needs xterm, Xvfb and ImageMagick (Debian: xterm xvfb imagemagick).
screenshots: $(READY)
	@$(VENV)/bin/python docs/screenshots/make.py

$(READY): requirements.lock pyproject.toml
	@$(PYTHON) -c 'import sys; sys.exit(0 if sys.version_info >= (3, 11) else "Oast needs Python 3.11 or newer; try: make PYTHON=python3.11")'
	@echo "setting up $(VENV) (a minute, once)"
	@$(PYTHON) -m venv $(VENV)
	@$(VENV)/bin/python -m pip install --quiet --no-compile --disable-pip-version-check --require-hashes -r requirements.lock
	@$(VENV)/bin/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
	@touch $(READY)

clean:
	rm -rf $(VENV) .mypy_cache .ruff_cache src/*.egg-info
