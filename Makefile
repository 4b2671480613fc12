# Two commands matter: `make demo` and `make test`. Both work on a fresh machine.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
PORT ?= 8080

# Modules stay compiled from one process to the next, whatever the shell says: the tests start hundreds.
export PYTHONDONTWRITEBYTECODE =

.PHONY: pango demo cluster test test-long test-postgresql postgresql bench proof lint install browser lock vendor audit

install: $(VENV)/.installed

$(VENV)/.installed: requirements.lock pyproject.toml
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements.lock
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
	@touch $@

demo: install pango
	@exec $(BIN)/angelon demo --port $(PORT) $(if $(FRESH),--fresh)

# Two web processes, three workers and a balancer over a PostgreSQL of their own (docs/scale.md).
cluster: install postgresql
	@PORT=$(PORT) exec $(BIN)/python -m cluster

postgresql:
	@sh scripts/ensure-postgresql.sh

pango:
	@sh scripts/ensure-pango.sh

browser:
	@sh scripts/ensure-chromium.sh

# Some five minutes on two cores: all but what takes long, which is most of the browser's tests, kills and fuzz. LONG=yes
# runs everything in one go, as CI does.
test: install browser pango lint
	$(BIN)/python -m pytest -n $(if $(LONG),2,3) --dist loadfile --no-loadscope-reorder --ignore tests/cluster \
		$(if $(LONG),,-m "not long")

# What takes long, on SQLite; what needs a PostgreSQL of its own (tests/cluster) is with the rest that runs on one.
test-long: install browser pango
	$(BIN)/python -m pytest -n 2 --dist loadfile --no-loadscope-reorder --ignore tests/cluster -m long

# The same tests on PostgreSQL, and those of several machines over one; ONLY chooses a part of them.
ONLY ?= tests
test-postgresql: install browser postgresql
	TEST_ON=postgresql $(BIN)/python -m pytest -n 2 --dist loadfile --no-loadscope-reorder $(ONLY)

lint: install
	$(BIN)/ruff check src tests bench proof cluster
	$(BIN)/ruff format --check --quiet src tests bench proof cluster
	$(BIN)/mypy
	$(BIN)/lint-imports --config pyproject.toml >/tmp/angelon-imports.$$$$ || { cat /tmp/angelon-imports.$$$$; exit 1; }; rm -f /tmp/angelon-imports.$$$$

bench: install
	$(BIN)/python -m bench

proof: install browser
	@sh scripts/ensure-mail-tools.sh
	@sh scripts/ensure-proof-tools.sh
	$(BIN)/python -m proof

# Asks a public database of known weaknesses about every pinned version, and fails where it knows none of one: needs the
# network, and is no part of the tests.
audit: install
	$(BIN)/python -m pip install --quiet pip-audit
	$(BIN)/pip-audit --strict --require-hashes --disable-pip -r requirements.lock

lock:
	$(BIN)/python -m pip install --quiet uv
	$(BIN)/uv pip compile --quiet pyproject.toml --extra dev --extra postgresql --extra parquet --extra traces --generate-hashes --no-emit-index-url --no-header -o requirements.lock
	$(BIN)/uv pip compile --quiet pyproject.toml --extra build --extra postgresql --extra parquet --extra traces --constraint requirements.lock --generate-hashes --no-emit-index-url --no-header --no-annotate -o deploy/requirements.lock

vendor:
	sh scripts/refresh-vendor.sh
