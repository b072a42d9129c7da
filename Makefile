# Two commands are all a fresh machine needs: `make demo` and `make test`.
PYTHON ?= $(shell command -v python3.11 || command -v python3)
VENV := .venv
RUN := $(VENV)/bin
READY := $(VENV)/.ready

# Where `make install` puts Welvo: everything below one folder of the user's own.
PREFIX ?= $(HOME)/.local
OWN := $(PREFIX)/share/welvo/program

.PHONY: demo test check bench fuzz screens docs referee wheel install uninstall clean

demo: $(READY)
	$(RUN)/welvo demo

test: $(READY)
	QT_QPA_PLATFORM=offscreen $(RUN)/pytest -n 3

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
fuzz: $(READY)
	$(RUN)/python scripts/fuzz.py $(SECONDS) $(SEED) $(KINDS)

screens: $(READY)
	scripts/on-a-screen $(RUN)/python -m welvo.app.screens docs/screenshots

docs: $(READY)
	$(RUN)/python scripts/make-docs.py

$(READY): pyproject.toml scripts/system-packages
	scripts/system-packages
	test -x $(RUN)/python || $(PYTHON) -m venv $(VENV)
	$(RUN)/python -m pip install --quiet --disable-pip-version-check -e '.[dev]'
	touch $(READY)

referee: $(READY)
	$(RUN)/python scripts/referee.py

wheel: $(READY)
	$(RUN)/python -m pip wheel --quiet --disable-pip-version-check --no-deps --wheel-dir dist .

install:
	scripts/system-packages
	test -x $(OWN)/bin/python || $(PYTHON) -m venv $(OWN)
	$(OWN)/bin/python -m pip install --quiet --disable-pip-version-check --upgrade .
	mkdir -p $(PREFIX)/bin
	ln -sf $(OWN)/bin/welvo $(PREFIX)/bin/welvo
	$(PREFIX)/bin/welvo desktop install --prefix $(PREFIX)

uninstall:
	! test -x $(OWN)/bin/welvo || $(OWN)/bin/welvo desktop uninstall --prefix $(PREFIX)
	rm -rf $(OWN)
	! test -L $(PREFIX)/bin/welvo || rm $(PREFIX)/bin/welvo
	! test -d $(PREFIX)/share/welvo || rmdir --ignore-fail-on-non-empty $(PREFIX)/share/welvo

clean:
	rm -rf $(VENV)
