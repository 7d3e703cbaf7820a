# Two commands do it all on a fresh machine: `make demo` and `make test`.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
RUN_STAMP := $(VENV)/.run-ready
TEST_STAMP := $(VENV)/.test-ready

.PHONY: setup demo test suite lint accuracy fit bench torture screenshots styles words

setup: $(RUN_STAMP)

$(RUN_STAMP): requirements.txt constraints.txt pyproject.toml
	@test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	@echo "Installing what Arkund needs (about 250 MB; a minute or two) …"
	@$(BIN)/python -m pip install --progress-bar off --no-warn-script-location --disable-pip-version-check -c constraints.txt -r requirements.txt
	@$(BIN)/python -m pip install --quiet --no-warn-script-location --disable-pip-version-check --no-deps -e .
	@echo "Preparing the code …"
	@$(BIN)/python -m compileall -q arkund
	@$(BIN)/python -m arkund.core.warming
	@touch $@

demo: setup
	@$(BIN)/arkund demo $(ARGS)

$(TEST_STAMP): $(RUN_STAMP) requirements-dev.txt package-lock.json
	@echo "Installing what the tests need (about 200 MB, and a browser where there is none; some minutes) …"
	@$(BIN)/python -m pip install --progress-bar off --no-warn-script-location --disable-pip-version-check -c constraints.txt -r requirements-dev.txt
	@sh scripts/install-test-tools.sh
	@touch $@

# Types are checked while the first tests wait for songs and for the browser.
test: $(TEST_STAMP)
	@$(MAKE) --no-print-directory -j 2 lint suite

# Two at a time, each file in one of them, so that the browser runs beside the rest.
suite: $(TEST_STAMP)
	@$(BIN)/python -m pytest -n 2 --dist loadfile --no-loadscope-reorder $(ARGS)

lint: $(TEST_STAMP)
	@$(BIN)/ruff check .
	@$(BIN)/ruff format --check .
	@$(BIN)/mypy

# Recorded hits come from free sound fonts of Debian's; without them those parts of the table are left out.
FONTS := fluidsynth fluid-soundfont-gm timgm6mb-soundfont freepats avldrums.lv2-soundfont
accuracy: $(TEST_STAMP)
	@dpkg -s $(FONTS) >/dev/null 2>&1 || apt-get install -q -y $(FONTS) || true
	@$(BIN)/python -m benchmarks.accuracy $(ARGS)
	@test -n "$(ARGS)" || $(BIN)/python -m benchmarks.worlds

# Everything that is learned, anew from its sources, and the same without those that are reported on: hours on
# two cores. See benchmarks/fit.
fit: $(TEST_STAMP)
	@dpkg -s $(FONTS) >/dev/null 2>&1 || apt-get install -q -y $(FONTS)
	@$(BIN)/python -m pip install -q -r requirements-fit.txt
	@$(BIN)/python -m benchmarks.fit --everything $(ARGS)
	@$(BIN)/python -m benchmarks.fit $(ARGS)

bench: $(TEST_STAMP)
	@$(BIN)/python -m benchmarks.speed $(ARGS)
	@$(BIN)/python -m benchmarks.printing

torture: $(TEST_STAMP)
	@$(BIN)/python -m tests.torture $(ARGS)

screenshots: $(TEST_STAMP)
	@$(BIN)/python -m scripts.screenshots $(ARGS)

styles:
	@npm install --no-save --silent --ignore-scripts && npm run --silent build
words:
	@$(BIN)/python -m scripts.words $(ARGS)
