# Everything goes through .venv; targets make it when it is missing or the pins have changed.
PYTHON ?= python3
BIN := .venv/bin
STAMP := .venv/.installed
PYTEST := QT_QPA_PLATFORM=offscreen $(BIN)/pytest
QT_LIBRARIES := libegl1 libgl1 libxkbcommon0 libdbus-1-3 libfontconfig1 libxkbcommon-x11-0 \
  libxcb-cursor0 libxcb-icccm4 libxcb-keysyms1 libxcb-image0 libxcb-render-util0 libxcb-shape0 \
  libxcb-randr0 libxcb-xinerama0

# Compiled modules are kept, whatever the environment says: a start from source takes twice as long.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo test test-changed bench fuzz soak killed mutants shots sounds-report system clean

demo: $(STAMP) system
	@$(BIN)/python -m cloudrift.audio.quick
	@$(BIN)/cloudrift demo

test: $(STAMP) system
	@$(BIN)/python -m cloudrift.audio.quick
	$(BIN)/ruff format --check .
	$(BIN)/ruff check .
	$(BIN)/mypy
	$(BIN)/lint-imports
	@# To write every assertion so that it shows its values takes 20 s: only those that fail do.
	$(PYTEST) -n 2 --dist worksteal --assert=plain || \
	  { s=$$?; test $$s = 1 && $(PYTEST) --last-failed --last-failed-no-failures none; exit $$s; }

# Only the tests that what has changed since the last commit can matter to.
test-changed: $(STAMP) system
	@files="$$($(BIN)/python -m tools.tests_changed)"; \
	  test -z "$$files" || $(PYTEST) -n 2 --dist worksteal --assert=plain $$files

# All rows, or those that have a word of ROWS in their names.
bench: $(STAMP) system
	@QT_QPA_PLATFORM=offscreen $(BIN)/python -m bench $(ROWS)

# How many files; how many minutes; how many times the program is killed.
fuzz: N ?= 20000
fuzz: $(STAMP) system
	QT_QPA_PLATFORM=offscreen $(BIN)/python -W ignore -m tools.fuzz $(N)

soak: MINUTES ?= 15
soak: $(STAMP) system
	QT_QPA_PLATFORM=offscreen $(BIN)/python -m tools.soak $(MINUTES)

killed: N ?= 1000
killed: $(STAMP)
	$(BIN)/python -m tools.killed $(N)

mutants: $(STAMP) system
	$(BIN)/python -m tools.mutate

shots: $(STAMP) system
	QT_QPA_PLATFORM=offscreen $(BIN)/python tools/shots.py

sounds-report: $(STAMP) system
	QT_QPA_PLATFORM=offscreen $(BIN)/python tools/sounds_report.py

$(STAMP): requirements.txt pyproject.toml setup.py cloudrift/audio/quick.c
	@test -x $(BIN)/python || $(PYTHON) -m venv .venv || { \
	  echo "cloudrift: could not make .venv; install python3-venv (3.11 or newer)"; exit 2; }
	@# What nobody imports need not be compiled.
	@$(BIN)/python -m pip install --quiet --no-compile --disable-pip-version-check -r requirements.txt
	@$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps -e .
	@touch $@

# Qt's own libraries come with its wheel; a few of the system's it expects to be there.
system: $(STAMP)
	@$(BIN)/python tools/system_check.py $(QT_LIBRARIES)

clean:
	rm -rf .venv build cloudrift/audio/_quick*.so *.egg-info .pytest_cache .mypy_cache .ruff_cache .hypothesis
