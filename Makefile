# Two commands are all a fresh machine needs: `make demo` and `make test`.
PYTHON ?= $(shell command -v python3.11 || command -v python3)
VENV := .venv
RUN := $(VENV)/bin
READY := $(VENV)/.ready

# Where `make install` puts Welvo: everything below one folder of the user's own.
PREFIX ?= $(HOME)/.local
export PREFIX

# The tests, the demo and the timings start the program again and again as processes of their own: without kept bytecode,
# as some shells ask for it, each would read all of its source anew.
export PYTHONDONTWRITEBYTECODE :=

.PHONY: demo test test-newest test-oldest check bench fuzz screens look docs referee wheel install uninstall update clean

demo: $(READY)
	$(RUN)/welvo demo

test: $(READY)
	QT_QPA_PLATFORM=offscreen $(RUN)/pytest -n 4

check: $(READY)
	$(RUN)/ruff check src tests benchmarks scripts/*.py
	$(RUN)/ruff format --check --quiet src tests benchmarks scripts/*.py
	$(RUN)/mypy
	$(RUN)/lint-imports

bench: $(READY)
	QT_QPA_PLATFORM=offscreen $(RUN)/python benchmarks/run.py

SECONDS ?= 120
SEED ?= $(shell date +%s)
KINDS ?=
CASE ?=
fuzz: $(READY)
	$(RUN)/python scripts/fuzz.py "$(SECONDS)" "$(SEED)" "$(KINDS)" "$(CASE)"

screens: $(READY)
	scripts/on-a-screen $(RUN)/python -m welvo.app.screens docs/screenshots

# Every state of every screen, in every size, size of text and theme: what is cut, covered, pale, accented twice or left
# over. Some 25 minutes; `make look LOOK="1280x800 +0 dark" PART=Devices` looks at a part.
LOOK ?=
PART ?=
look: $(READY)
	QT_QPA_PLATFORM=offscreen $(RUN)/python scripts/look.py "$(LOOK)" "$(PART)"

docs: $(READY)
	$(RUN)/python scripts/make-docs.py

PIP := -m pip --disable-pip-version-check --quiet
LOCKED := --require-hashes --only-binary :all: -r requirements.lock
HERE := --no-deps --no-build-isolation --no-index -e .

$(READY): requirements.lock pyproject.toml scripts/system-packages src/welvo/data/libraries.txt
	scripts/system-packages --tests
	test -x $(RUN)/python || $(PYTHON) -m venv $(VENV)
	$(RUN)/python $(PIP) install $(LOCKED)
	$(RUN)/python $(PIP) install $(HERE)
	touch $(READY)

# The lock file anew from the ranges in pyproject.toml; and the suite at both ends of these ranges.
TOOLS := .venv-tools
$(TOOLS)/bin/uv:
	$(PYTHON) -m venv $(TOOLS)
	$(TOOLS)/bin/python $(PIP) install 'uv<1'

update: $(TOOLS)/bin/uv
	$(TOOLS)/bin/python scripts/lock.py $(TOOLS)/bin/uv

test-newest: $(TOOLS)/bin/uv
	scripts/system-packages --tests
	$(PYTHON) -m venv --clear .venv-newest
	$(TOOLS)/bin/uv pip install --quiet --python .venv-newest -e '.[dev]' 'hatchling>=1.27,<2' editables
	QT_QPA_PLATFORM=offscreen .venv-newest/bin/pytest -n 4

test-oldest: $(TOOLS)/bin/uv
	scripts/system-packages --tests
	$(PYTHON) -m venv --clear .venv-oldest
	$(TOOLS)/bin/uv pip install --quiet --python .venv-oldest --resolution lowest-direct -e '.[dev]' 'hatchling>=1.27,<2' 'editables>=0.5'
	QT_QPA_PLATFORM=offscreen .venv-oldest/bin/pytest -n 4

referee: $(READY)
	$(RUN)/python scripts/referee.py

wheel: $(READY)
	$(RUN)/python $(PIP) wheel --no-deps --no-build-isolation --no-index --wheel-dir dist .

install:
	scripts/system-packages
	"$(PYTHON)" scripts/put-in-place.py install

uninstall:
	"$(PYTHON)" scripts/put-in-place.py uninstall

clean:
	rm -rf "$(VENV)" .venv-tools .venv-newest .venv-oldest
