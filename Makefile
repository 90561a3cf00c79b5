# `make demo` and `make test` do all the set-up on a machine with Python 3.11, make and git.
PYTHON ?= python3
VENV   := .venv
BIN    := $(VENV)/bin
PIP    := $(BIN)/pip --disable-pip-version-check install --quiet --constraint constraints.txt

# `make test FAMILIES=postgresql` leaves out the tests against other servers, and says so.
MARIADB := $(if $(FAMILIES),$(filter mariadb,$(FAMILIES)),mariadb)

# Debian packages that the tests need; without the rights to install it, those tests fail and say so.
debian = { echo "Installing $(1) for $(2) …"; export DEBIAN_FRONTEND=noninteractive; \
	apt-get install -y -q $(1) >/dev/null 2>&1 || { apt-get update -q && apt-get install -y -q $(1); } >/dev/null 2>&1 || \
	echo "$(1) could not be installed: $(2) will fail."; }

.PHONY: demo test quick check format bench screenshots clean

demo: $(VENV)/.embedded
	@$(BIN)/slabrow demo

test: $(VENV)/.dev
	$(if $(MARIADB),@PATH="$$PATH:/usr/sbin" && command -v mariadbd >/dev/null && command -v my_print_defaults >/dev/null || $(call debian,mariadb-server-core mariadb-client-core,the tests against MariaDB))
	@$(BIN)/python -m tests $(if $(FAMILIES),--families $(FAMILIES))

quick: $(VENV)/.dev
	@$(BIN)/python -m tests --quick

check: $(VENV)/.dev
	@$(BIN)/ruff format --quiet --check src tests benchmarks docs
	@$(BIN)/ruff check --quiet src tests benchmarks docs
	@$(BIN)/mypy --no-error-summary

format: $(VENV)/.dev
	@$(BIN)/ruff format --quiet src tests benchmarks docs

bench: $(VENV)/.dev
	@$(BIN)/python -m benchmarks

screenshots: $(VENV)/.dev
	@$(BIN)/python docs/screenshots/make.py

clean:
	rm -rf $(VENV) .mypy_cache .ruff_cache .hypothesis

$(VENV)/.python:
	@$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11))' || { echo "Slabrow needs Python 3.11 or newer: make PYTHON=python3.11 …"; exit 1; }
	@$(PYTHON) -m venv $(VENV)
	@touch $@

$(VENV)/.embedded: $(VENV)/.python pyproject.toml constraints.txt
	@echo "Installing Slabrow and a PostgreSQL into $(VENV) …"
	@$(PIP) --editable '.[all]'
	@$(BIN)/python -m compileall -q src
	@touch $@

$(VENV)/.dev: $(VENV)/.python pyproject.toml constraints.txt
	@echo "Installing Slabrow, its checks and two PostgreSQL servers into $(VENV) …"
	@$(PIP) --editable '.[all,dev]'
	@$(BIN)/python -m compileall -q src
	@command -v chromium chromium-browser google-chrome >/dev/null || $(call debian,chromium,the tests of the report page)
	@touch $@ $(VENV)/.embedded
