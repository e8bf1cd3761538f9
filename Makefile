# `make demo` runs the whole job on the demo data, `make test` passes the tests; both set up what they need.
VENV ?= .venv
PY = $(VENV)/bin/python

.PHONY: demo test check bench docs shots clean
demo: $(VENV)/.ready
	$(VENV)/bin/hollow-chain demo

test: $(VENV)/.ready-dev
	$(VENV)/bin/ruff check .
	$(VENV)/bin/ruff format --check .
	$(VENV)/bin/mypy
	$(PY) -m pytest -m "not live and not alone" -n 2
	$(PY) -m pytest -m alone
	$(PY) -m pytest -m live -n 3

bench: $(VENV)/.ready-dev
	$(PY) -m bench

docs: $(VENV)/.ready-dev
	$(PY) docs/make.py

shots: $(VENV)/.ready-dev
	$(PY) docs/shots.py

$(VENV)/.ready: pyproject.toml
	python3 -m venv $(VENV)
	$(PY) -m pip install --quiet --disable-pip-version-check -e .
	touch $@

$(VENV)/.ready-dev: $(VENV)/.ready
	$(PY) -m pip install --quiet --disable-pip-version-check -e '.[dev]'
	touch $@

clean:
	rm -rf $(VENV) build dist hollow-chain-demo
