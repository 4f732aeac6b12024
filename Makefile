# Everything a person or a machine does with this repository. `make` lists the targets.
PORT ?= 8321
DATA ?= data
VENV := .venv
PYTHON := $(VENV)/bin/python
PAGE := src/avocet/web/page/index.html
BENCHES := suppression evaluation judging uncertainty intake reading pages gestures training busy learning digits quality using following ordering cluster

.PHONY: help run setup test test-all soak quick check bench package screenshots types clean $(BENCHES)

help:
	@echo "make run          set up what is missing, make the demo project, serve it on 127.0.0.1:$(PORT)"
	@echo "make setup        install and build only"
	@echo "make test         all but the longest tests, in some ten minutes; make quick: what needs no browser, in one or two"
	@echo "make test-all     everything that is tested, as it has to pass before a change is taken"
	@echo "make soak         the fuzzers at length"
	@echo "make check        style and types      make bench        ratios of speed, and the learning test"
	@echo "make package      a wheel in dist/ that pip installs anywhere: page, weights and demo are in it"
	@echo "make types        the page's types from the server's schemas"
	@echo "make screenshots  docs/screenshots/ from the demo project"

run: setup
	@exec $(VENV)/bin/avocet serve --data "$(DATA)" --port "$(PORT)" --demo

setup: $(VENV)/installed $(PAGE)

$(VENV)/installed: pyproject.toml constraints.txt
	@scripts/need python
	@test -x $(PYTHON) || python3 -m venv $(VENV)
	@echo "Installing Python packages"
	@$(PYTHON) -m pip install --quiet --disable-pip-version-check -c constraints.txt -e '.[build]'
	@touch $@

$(VENV)/tested: $(VENV)/installed
	@scripts/need browser
	@$(PYTHON) -m pip install --quiet --disable-pip-version-check -c constraints.txt -e '.[test]'
	@touch $@

frontend/node_modules/installed: frontend/package.json frontend/package-lock.json
	@scripts/need node
	@echo "Installing the page's packages"
	@cd frontend && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

$(PAGE): $(VENV)/installed mkdocs.yml scripts/site_start.py README.md $(shell find docs -type f) frontend/node_modules/installed frontend/openapi.json $(shell find frontend/src -not -name schema.d.ts -not -name declared.ts -type f) $(shell find frontend/public frontend/index.html frontend/vite.config.ts frontend/tsconfig.json frontend/scripts -type f)
	@echo "Building the page"
	@cd frontend && npm run --silent build
	@$(VENV)/bin/mkdocs build --quiet
	@touch $@

types: $(VENV)/installed frontend/node_modules/installed
	@$(PYTHON) scripts/openapi.py > frontend/openapi.json
	@cd frontend && npm run --silent types

# A file of tests for each core at once, each with one thread: threads that share a core wait for one another.
# Compiled modules are kept, whatever the shell says: every server and worker of the tests reads them again.
TOGETHER := OMP_NUM_THREADS=1 PYTHONDONTWRITEBYTECODE= $(PYTHON) -m pytest --numprocesses auto --maxprocesses 4 --dist loadfile

test: setup $(VENV)/tested
	cd frontend && npm run --silent test
	$(TOGETHER) -m "not long" --durations 10 --durations-min 6

test-all: setup $(VENV)/tested
	cd frontend && npm run --silent test
	$(TOGETHER) --durations 40 --durations-min 5

# Many callers for three minutes and sixteen people for ten, by themselves as they look at the clock; then, at length, the
# two people on one clip, fuzzers, kills at any moment, and a cluster that loses machines.
soak: setup $(VENV)/tested
	AVOCET_SOAK=200 OMP_NUM_THREADS=1 $(PYTHON) -m pytest -s tests/hostile/test_callers.py tests/hostile/test_load.py
	cd frontend && AVOCET_SOAK=400 npm run --silent test -- tests/twoPeople.test.ts
	AVOCET_SOAK=200 $(TOGETHER) tests/hostile tests/work/cluster --deselect tests/hostile/test_callers.py \
		--deselect tests/hostile/test_load.py

quick: $(VENV)/tested
	AVOCET_QUICK=1 $(TOGETHER) -m "not slow and not browser and not long"

check: $(VENV)/tested frontend/node_modules/installed
	$(VENV)/bin/ruff check src tests bench scripts
	$(VENV)/bin/ruff format --check src tests bench scripts
	$(VENV)/bin/mypy
	cd frontend && npm run --silent lint

$(VENV)/benched: $(VENV)/tested
	@$(PYTHON) -m pip install --quiet --disable-pip-version-check -c constraints.txt -e '.[bench]'
	@touch $@

# What earlier builds left would be packed as well.
package: setup $(VENV)/tested
	@rm -rf build dist
	@$(PYTHON) -m pip wheel --quiet --disable-pip-version-check --no-deps --no-build-isolation --wheel-dir dist .
	@rm -rf build
	@ls dist/*.whl

# `make bench` runs all, `make bench pages` only those that are named.
bench: $(VENV)/benched
	$(PYTHON) -m bench $(filter $(BENCHES),$(MAKECMDGOALS))

$(BENCHES): bench
	@:

screenshots: setup $(VENV)/tested
	$(PYTHON) scripts/screenshots.py

clean:
	rm -rf $(VENV) frontend/node_modules $(dir $(PAGE))
