# `make demo` runs the whole job on the demo data, `make test` passes the tests; both set up what they need.
VENV ?= .venv
PY = $(VENV)/bin/python

.PHONY: demo test compiled bench factory fit docs shots bundle clean
demo: $(VENV)/.ready
	$(VENV)/bin/hollow-chain demo

test: compiled
	$(VENV)/bin/ruff check .
	$(VENV)/bin/ruff format --check .
	$(VENV)/bin/mypy
	$(PY) -m pytest -m "not live and not alone" -n 2 --durations=25
	$(PY) -m pytest -m alone
	$(PY) -m pytest -m "live and not win32" -n 3 --dist loadgroup --durations=25
	$(PY) -m pytest -m win32 -n 2 --dist loadfile

bench: compiled
	$(PY) -m bench

# General ways to break a service, on daemons and in-house programs: half an hour on two cores, as root.
factory: compiled
	$(PY) -m bench.factory

# What the kept runs of the factory teach, fitted on one half of the daemons and measured on the other.
fit: compiled
	$(PY) -m bench.factory.fit

# As an installed package is: a start that has to translate its modules anew takes half as long again.
compiled: $(VENV)/.ready-dev
	$(PY) -m compileall -q src

docs: $(VENV)/.ready-dev
	$(PY) docs/make.py

shots: $(VENV)/.ready-dev
	$(PY) docs/shots.py

# One file for hosts that have nothing but this version of Python: no network, no pip. It unpacks itself below ~/.shiv (or SHIV_ROOT).
bundle: $(VENV)/.ready
	$(PY) -m pip install --quiet --disable-pip-version-check 'shiv>=1.0.8'
	mkdir -p dist
	$(VENV)/bin/shiv --quiet --compressed --console-script hollow-chain --python '/usr/bin/env python3' \
	  --output-file dist/hollow-chain.pyz .
	@echo "wrote dist/hollow-chain.pyz: copy it to the host, and run: python3 hollow-chain.pyz why SERVICE"

$(VENV)/.ready: pyproject.toml
	python3 -m venv $(VENV)
	$(PY) -m pip install --quiet --disable-pip-version-check -e .
	touch $@

$(VENV)/.ready-dev: $(VENV)/.ready
	$(PY) -m pip install --quiet --disable-pip-version-check -e '.[dev]'
	touch $@

clean:
	rm -rf $(VENV) build dist hollow-chain-demo
