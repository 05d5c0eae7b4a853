# `make demo` and `make test` need Python 3.11 or newer and make; everything else is fetched.
PYTHON ?= python3
VENV := .venv
RUN := $(VENV)/bin/python

.PHONY: demo test lint bench clean

demo: $(VENV)/.demo
	$(VENV)/bin/eptaro demo --folder eptaro-demo --replace

test: $(VENV)/.test
	$(RUN) -W error -m unittest discover -s tests -t .

lint: $(VENV)/.lint
	$(VENV)/bin/ruff check src tests bench examples docs/make.py
	$(VENV)/bin/ruff format --check src tests bench examples docs/make.py
	$(VENV)/bin/mypy

bench: $(VENV)/.test
	$(RUN) bench/all.py

$(VENV)/bin/python:
	$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11) and "Eptaro needs Python 3.11 or newer; name one with PYTHON=...")'
	$(PYTHON) -m venv $(VENV)

# A stamp per set of packages: a second run reuses what stands, a changed pyproject.toml installs anew.
$(VENV)/.demo: $(VENV)/bin/python pyproject.toml
	$(RUN) -m pip install --quiet --disable-pip-version-check --editable '.[all]'
	@touch $@

$(VENV)/.test: $(VENV)/bin/python pyproject.toml
	$(RUN) -m pip install --quiet --disable-pip-version-check --editable '.[test]'
	@touch $@ $(VENV)/.demo

$(VENV)/.lint: $(VENV)/bin/python pyproject.toml
	$(RUN) -m pip install --quiet --disable-pip-version-check --editable '.[test,lint]'
	@touch $@ $(VENV)/.test $(VENV)/.demo

clean:
	rm -rf $(VENV) build dist eptaro-demo
