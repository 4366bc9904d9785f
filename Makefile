# Hypotaxis: the commands. `make demo` and `make test` set up everything they need.
.PHONY: help demo start devices test lint fuzz hammer bench wheel setup setup-test setup-bench setup-lint vendor lock \
  weaknesses screenshots walk power
.DEFAULT_GOAL := help

PYTHON ?= python3.11
VENV := .venv
BIN := $(VENV)/bin
STAMPS := .cache
PORT ?= 8000
FUZZ_S ?= 600
FUZZ_FROM ?= 0
HAMMER_S ?= 300
HAMMER_FROM ?= 0
CUTS ?= 6
APT := DEBIAN_FRONTEND=noninteractive apt-get -o DPkg::Lock::Timeout=300
TESTS ?= tests
SOUND_FONT := /usr/share/sounds/sf2/TimGM6mb.sf2

help:
	@echo "make demo         set up and start Hypotaxis with its demo data (PORT=8000, FRESH=1 starts over,"
	@echo "                  COPY=1 goes on with the copy of the day where the data is damaged)"
	@echo "make start        the same without demo data: your own empty rig"
	@echo "make devices      what real ports and inputs need besides: the libraries of JACK, PortAudio and RtMidi"
	@echo "make test         set up and run all tests (TESTS=tests.core for some of them)"
	@echo "make lint         style of code, templates, styles and scripts; import directions"
	@echo "make fuzz         changed files to every reader, for FUZZ_S=600 seconds, from number FUZZ_FROM=0 on"
	@echo "make hammer       kills, a full disk, crossing requests, for HAMMER_S=300 seconds, from HAMMER_FROM=0 on"
	@echo "make power        power that goes, CUTS=6 times, on a disk of its own (Linux, root)"
	@echo "make bench        speed against reference libraries, as ratios"
	@echo "make walk         from an empty desk to the first take: moves and time"
	@echo "make screenshots  take the pictures in docs/screenshots anew"
	@echo "make vendor       fetch the front-end packages again (needs npm)"
	@echo "make lock         renew the locked Python packages (UPGRADE=1: to newer versions)"
	@echo "make weaknesses   look the locked packages up among known weaknesses (needs the network)"
	@echo "make wheel        an installable package in dist/"

# --- what the others build on -------------------------------------------------------------------
$(STAMPS)/venv:
	@mkdir -p $(STAMPS)
	@if ! $(PYTHON) -c 'import ensurepip, venv' 2>/dev/null; then \
	  $(APT) update && $(APT) install -y --no-install-recommends python3 python3-venv; fi
	$(PYTHON) -m venv $(VENV)
	@touch $@

$(STAMPS)/runtime: requirements/runtime.txt $(STAMPS)/venv
	$(BIN)/pip install --quiet --disable-pip-version-check -r requirements/runtime.txt
	@# Readers of unknown files may write none, so they could not keep what they compile.
	$(BIN)/python -m compileall -q hypotaxis
	@touch $@

$(STAMPS)/devices: requirements/devices.txt $(STAMPS)/runtime
	@if ! ldconfig -p | grep -q libjack.so.0 || ! ldconfig -p | grep -q libportaudio.so.2; then \
	  $(APT) update && $(APT) install -y --no-install-recommends libjack-jackd2-0 libportaudio2 libasound2; fi
	$(BIN)/pip install --quiet --disable-pip-version-check -r requirements/devices.txt
	@touch $@

# The tests play on a JACK server of their own, with a driver that needs no sound card, and a synthesizer in software.
$(STAMPS)/test: requirements/test.txt $(STAMPS)/runtime
	@# The shell is the same browser without its windows: it takes half the computing.
	@command -v chromium-headless-shell >/dev/null \
	  || { $(APT) update && $(APT) install -y --no-install-recommends chromium-headless-shell; } \
	  || command -v chromium >/dev/null || $(APT) install -y --no-install-recommends chromium
	@if ! command -v jackd >/dev/null || ! command -v fluidsynth >/dev/null \
	  || ! ldconfig -p | grep -q libportaudio.so.2 || ! test -e $(SOUND_FONT); then \
	  $(APT) update && $(APT) install -y --no-install-recommends jackd2 libjack-jackd2-0 libportaudio2 \
	    libasound2 fluidsynth timgm6mb-soundfont; fi
	$(BIN)/pip install --quiet --disable-pip-version-check -r requirements/test.txt
	@touch $@

$(STAMPS)/bench: requirements/bench.txt $(STAMPS)/test
	$(BIN)/pip install --quiet --disable-pip-version-check -r requirements/bench.txt
	@touch $@

setup: $(STAMPS)/runtime
setup-test: $(STAMPS)/test
setup-bench: $(STAMPS)/bench

# --- the application ----------------------------------------------------------------------------
demo: setup
	@exec $(BIN)/python manage.py start --port $(PORT) --demo $(if $(FRESH),--fresh) $(if $(COPY),--from-copy)

start: setup
	@exec $(BIN)/python manage.py start --port $(PORT) $(if $(FRESH),--fresh) $(if $(COPY),--from-copy)

devices: $(STAMPS)/devices
	@echo "Real ports and inputs can be opened now: $(BIN)/python manage.py devices"

# --- checks -------------------------------------------------------------------------------------
test: setup-test
	@# One process more than cores: tests in a browser wait as much as they compute.
	$(BIN)/python -W error::RuntimeWarning manage.py test --parallel $$(($$(nproc) + 1)) $(TESTS)

# Node.js is for the lint of styles and scripts alone; nothing that runs needs it.
$(STAMPS)/lint: frontend/package-lock.json $(STAMPS)/test
	@if ! command -v npm >/dev/null; then \
	  $(APT) update && $(APT) install -y --no-install-recommends nodejs npm; fi
	cd frontend && npm ci --silent
	@touch $@

setup-lint: $(STAMPS)/lint

lint: setup-lint
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/lint-imports
	$(BIN)/djlint --lint --quiet hypotaxis
	@! grep -rnE --include=*.html '.{161,}' hypotaxis || { echo "template lines over 160 characters"; exit 1; }
	frontend/node_modules/.bin/eslint --config frontend/eslint.config.js hypotaxis/web/static/web/scripts
	frontend/node_modules/.bin/stylelint --config frontend/stylelint.config.js "hypotaxis/web/static/web/styles/*.css"

fuzz: setup-test
	FUZZ_S=$(FUZZ_S) FUZZ_FROM=$(FUZZ_FROM) $(BIN)/python manage.py test tests.core.formats.test_fuzz

hammer: setup-test
	$(BIN)/python -m tests.hammer $(HAMMER_S) $(HAMMER_FROM)

# Power that goes: on a disk of its own, which takes Linux and root.
power: setup-test
	$(BIN)/python -m tests.hammer.power $(CUTS)

bench: setup-bench
	$(BIN)/python -m benchmarks

screenshots: setup-test
	$(BIN)/python -m tests.browser.screenshots

walk: setup-test
	$(BIN)/python -m tests.browser.walk

# --- renewing what is shipped -------------------------------------------------------------------
vendor:
	cd frontend && npm install && ./copy.sh

# Every file that may be installed is named by its hash, so that nothing else is. UPGRADE=1 takes newer versions.
lock: setup
	rm -rf $(STAMPS)/lock && $(PYTHON) -m venv $(STAMPS)/lock
	$(STAMPS)/lock/bin/pip install --quiet pip-tools
	for set in runtime devices test bench; do \
	  $(STAMPS)/lock/bin/pip-compile --quiet --generate-hashes --allow-unsafe --strip-extras --no-header --no-annotate \
	    --no-emit-index-url --no-emit-trusted-host --no-emit-find-links $(if $(UPGRADE),--upgrade) \
	    --output-file requirements/$$set.txt requirements/$$set.in && \
	  sed -i "1i # Locked from $$set.in with hashes; renew with \`make lock\`." requirements/$$set.txt || exit 1; \
	done

wheel: setup-test
	rm -rf dist && $(BIN)/python -m build --quiet
	@ls dist

# What is known of weaknesses in the locked packages; asks the advisory database of the package index.
weaknesses: setup
	$(PYTHON) -m venv $(STAMPS)/audit && $(STAMPS)/audit/bin/pip install --quiet pip-audit
	$(STAMPS)/audit/bin/pip-audit --require-hashes --disable-pip --requirement requirements/runtime.txt
