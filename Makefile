# The two commands that matter: "make demo" and "make test". Both work on a fresh machine with Python 3.11+.
PYTHON ?= python3
VENV ?= .venv
BIN = $(VENV)/bin
STAMP = $(VENV)/.installed

# The tests start hundreds of processes: where compiled modules may not be kept, each compiles everything anew.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo test check screenshots bench servers clean

$(STAMP): pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[dev]'
	touch $(STAMP)

demo: $(STAMP)
	$(BIN)/rupex demo

# As root this installs the real servers that the tests hold Rupex against; otherwise they must be there.
servers:
	VENV=$(VENV) sh tools/install-servers.sh

# Those that take longest come first, so that no processor waits for one of them in the end. Servers are waited for: one more runs
# than there are processors.
SLOW = $(patsubst %,tests/test_%.py,tomcat probe_bad_peers growth apache_tls_against_server snapshot fleet probe collect_changes_nothing)
TESTS = $(SLOW) $(filter-out $(SLOW),$(wildcard tests/test_*.py))

test: $(STAMP) servers
	$(MAKE) --keep-going --output-sync --jobs=$$(($$(getconf _NPROCESSORS_ONLN) + 1)) $(TESTS)

.PHONY: $(TESTS)
$(TESTS): $(STAMP)
	$(BIN)/python -m unittest --quiet tests.$(basename $(notdir $@))

check: $(STAMP)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy --strict

screenshots: $(STAMP)
	sh tools/install-screen.sh
	$(BIN)/python tools/screenshots.py

bench: $(STAMP) servers
	$(BIN)/python -m bench.run
	$(BIN)/python -m bench.history

clean:
	rm -rf $(VENV) .mypy_cache .ruff_cache .hypothesis
