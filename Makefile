# `make demo` and `make test` set themselves up in .venv; nothing else is touched.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
WORKERS ?= 2
TESTS ?=

.PHONY: demo test elsewhere check bench faults mutants examples examples-again examples-install screenshots clean

demo: $(VENV)/demo.stamp
	rm -rf build/demo
	$(BIN)/ferocal demo build/demo

# WORKERS=0 for a single process; TESTS="tests/test_plan.py" for some.
test: $(VENV)/dev.stamp
	$(BIN)/python -m pytest -q -n $(WORKERS) $(TESTS)

# As root: the suite on a machine that looks like another one.
elsewhere:
	tests/elsewhere.sh

check: $(VENV)/dev.stamp
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/mypy --platform win32 src
	$(BIN)/mypy --platform darwin src
	$(BIN)/lint-imports

bench: $(VENV)/dev.stamp
	for script in benchmarks/bench_*.py; do $(BIN)/python $$script || exit 1; done

# Hours; FAULTS="--only ends --scale 0.1" for some. Without the fuzzer no input is guided.
faults: $(VENV)/dev.stamp
	-$(call install,.[dev,faults])
	$(BIN)/python benchmarks/faults/campaign.py $(FAULTS)

# A day or more; it goes on where it was. MUTANTS="--sample 200" for some, "--report" for what is known.
mutants: $(VENV)/dev.stamp
	$(BIN)/python benchmarks/mutants/judge.py $(MUTANTS)

# Those whose software is installed; ROUNDS=2 for a short look, NAMES="browsers" for some.
examples: $(VENV)/dev.stamp
	$(BIN)/python examples/run.py $(if $(ROUNDS),--rounds $(ROUNDS)) $(NAMES)

# Measures them anew, and says which verdicts repeated.
examples-again: $(VENV)/dev.stamp
	$(BIN)/python examples/run.py --again $(if $(ROUNDS),--rounds $(ROUNDS)) $(NAMES)

# As root, on Debian: what the examples compare, by name.
examples-install: $(VENV)/dev.stamp
	examples/install.sh $(BIN)/python $(NAMES)

# Needs Chromium, Xvfb, xterm, xdotool and ImageMagick.
screenshots: $(VENV)/dev.stamp
	$(BIN)/python docs/make_screenshots.py

$(VENV)/bin/python:
	$(PYTHON) -m venv $(VENV)

# uv installs in a third of the time; where it cannot be had, or knows no way to the packages
# that pip was told of, pip does it.
define install
	{ $(BIN)/python -m pip install -q --disable-pip-version-check -c constraints.txt uv && \
	  $(BIN)/uv pip install -q --python $(BIN)/python -c constraints.txt -e '$(1)'; } || \
	$(BIN)/python -m pip install -q --disable-pip-version-check -c constraints.txt -e '$(1)'
endef

$(VENV)/demo.stamp: pyproject.toml constraints.txt | $(VENV)/bin/python
	$(call install,.)
	touch $@

$(VENV)/dev.stamp: pyproject.toml constraints.txt | $(VENV)/bin/python
	$(call install,.[dev])
	touch $@ $(VENV)/demo.stamp

clean:
	rm -rf $(VENV) build
