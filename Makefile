# `make demo` and `make test` need Python 3.11 or newer and make; everything else is fetched.
PYTHON ?= python3
VENV := .venv
RUN := $(VENV)/bin/python
PIP := $(RUN) -m pip install --quiet --disable-pip-version-check
CHECKED := src tests bench examples docs setup.py
BUILT := pyproject.toml setup.py $(wildcard src/eptaro/core/kernels/compiled/*.p[yx][xd])

# The many commands that tests start would otherwise each compile the whole package again.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo test test-quick sanitize coverage lint docs bench bench-quick clean

demo: $(VENV)/.demo
	$(VENV)/bin/eptaro demo --folder eptaro-demo --replace

test: $(VENV)/.test
	$(RUN) -W error tests/parallel.py

test-quick: $(VENV)/.test
	$(RUN) -W error tests/parallel.py tests/core

# The compiled loops and their tests under the sanitizers of addresses and undefined behaviour.
sanitize: $(VENV)/.test
	rm -rf build/sanitized && mkdir -p build/sanitized && cp -r src/eptaro build/sanitized
	CFLAGS="-O1 -g -fno-wrapv -fsanitize=address,undefined -fno-sanitize-recover=undefined" \
	  $(RUN) setup.py --quiet build_ext --force --build-lib build/sanitized --build-temp build/objects
	LD_PRELOAD="$$(gcc -print-file-name=libasan.so) $$(gcc -print-file-name=libubsan.so)" \
	  ASAN_OPTIONS=detect_leaks=0 EPTARO_KERNEL=compiled PYTHONPATH=build/sanitized \
	  $(RUN) -W error -m unittest discover -s tests/core/kernels -t .

coverage: $(VENV)/.test
	$(RUN) -m coverage erase
	$(RUN) -m coverage run -m unittest discover -s tests -t .
	$(RUN) -m coverage combine --quiet
	$(RUN) -m coverage report --skip-covered --sort=cover

lint: $(VENV)/.lint
	$(VENV)/bin/ruff check $(CHECKED)
	$(VENV)/bin/ruff format --check $(CHECKED)
	$(VENV)/bin/mypy

docs: $(VENV)/.docs
	$(RUN) docs/rooms.py
	$(RUN) -m sphinx --fail-on-warning --quiet --builder html docs build/site

bench: $(VENV)/.test
	$(RUN) bench/all.py

bench-quick: $(VENV)/.test
	$(RUN) bench/shapes.py quick
	$(RUN) bench/start.py quick

$(VENV)/bin/python:
	$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11) and "Eptaro needs Python 3.11 or newer; name one with PYTHON=...")'
	$(PYTHON) -m venv $(VENV)

# A stamp per set of packages: a second run reuses it, a changed file of BUILT installs anew. The
# demo compiles only the code that it uses.
$(VENV)/.demo: $(VENV)/bin/python $(BUILT)
	$(PIP) --no-compile --editable '.[calendars,config,locales,reports,workbooks,databases]'
	@touch $@

$(VENV)/.docs: $(VENV)/.test
	$(PIP) --group docs
	@touch $@

$(VENV)/.test: $(VENV)/bin/python $(BUILT)
	$(PIP) --upgrade 'pip>=25.1'  # the first that knows dependency groups
	$(PIP) --editable '.[all,postgresql]' --group test
	@touch $@ $(VENV)/.demo

$(VENV)/.lint: $(VENV)/bin/python $(BUILT)
	$(PIP) --upgrade 'pip>=25.1'
	$(PIP) --editable '.[all,postgresql]' --group test --group lint
	@touch $@ $(VENV)/.test $(VENV)/.demo

clean:
	rm -rf $(VENV) build dist eptaro-demo .coverage*
