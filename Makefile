# Restless Tide. `make demo` and `make test` do all the set-up they need.

PYTHON ?= $(shell scripts/python.sh)
VENV := .venv
BIN := $(VENV)/bin
STAMPS := .stamps
CONSOLE := console/dist/index.html
CONSOLE_SOURCES := $(shell find console/src console/public -type f 2>/dev/null) console/index.html console/vite.config.ts console/tsconfig.json
KILLS ?= 100
TURNS ?= 100000
ORDERS ?= 4
FAULTS ?= 2
CASES ?= 2000
ROLLOUTS ?= 2000
export TIDE_PORT
# Sources are compiled once, not by each of the many processes that the tests and the demo start.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: help demo demo-reset tour test bench chaos explore foresight fuzz guard lint types console contract screenshots wheel clean lock

help: ## show what can be made
	@grep -hE '^[a-z-]+:.*##' $(MAKEFILE_LIST) | sed -E 's/:.*## /\t/' | expand -t 16

demo: $(STAMPS)/runtime $(CONSOLE) ## a desk with four stores and three weeks of history, until Ctrl-C
	@scripts/need.sh git
	@exec $(BIN)/python -m restless_tide.demo

demo-reset: $(STAMPS)/runtime ## throw the demo's data away
	@$(BIN)/python -m restless_tide.demo reset

tour: $(STAMPS)/runtime ## the whole example by the tide command, on a throw-away desk
	@scripts/need.sh git
	@$(BIN)/python -m restless_tide.demo.tour

test: $(STAMPS)/tools $(CONSOLE) ## every check and every test
	@$(MAKE) --no-print-directory -j2 --output-sync=target lint types
	$(BIN)/pytest -n 4 --dist loadfile --no-loadscope-reorder

foresight: $(STAMPS)/dev ## what the sheet foretells against what a store says: make foresight SEED=1 CASES=2000 [RULEBOOK=file]
	$(BIN)/python -m tests.foresight --seed $(or $(SEED),1) --cases $(CASES) $(if $(RULEBOOK),--rulebook $(RULEBOOK))

guard: $(STAMPS)/dev ## made-up rollouts that guards must leave alone, and others that they must stop: make guard SEED=1 ROLLOUTS=2000
	$(BIN)/python -m tests.guards --seed $(or $(SEED),1) --rollouts $(ROLLOUTS)

lint: $(STAMPS)/dev
	$(BIN)/ruff check --output-format concise src tests bench scripts
	$(BIN)/ruff format --check --quiet src tests bench scripts
	$(BIN)/mypy
	$(BIN)/lint-imports --no-cache

types: $(STAMPS)/dev $(STAMPS)/node
	$(BIN)/python scripts/contract.py $(STAMPS)/contract
	@for pair in openapi.json:console/openapi.json gateway-openapi.json:docs/gateway-openapi.json rulebook.schema.json:docs/rulebook.schema.json dossier.schema.json:docs/dossier.schema.json; do \
	  cmp $(STAMPS)/contract/$${pair%%:*} $${pair##*:} || { echo "$${pair##*:} is stale: run make contract" >&2; exit 1; }; done
	@cd console && npx --no-install openapi-typescript openapi.json -o ../$(STAMPS)/schema.d.ts >/dev/null
	$(BIN)/python scripts/states.py $(STAMPS)/states.ts
	@cmp $(STAMPS)/states.ts console/src/states.ts || { echo "console/src/states.ts is stale: run make contract" >&2; exit 1; }
	@cmp $(STAMPS)/schema.d.ts console/src/schema.d.ts || { echo "console/src/schema.d.ts is stale: run make contract" >&2; exit 1; }
	cd console && npx --no-install vue-tsc --noEmit

bench: $(STAMPS)/tools $(CONSOLE) ## measure, each figure beside its comparison
	$(BIN)/python -m bench

chaos: $(STAMPS)/dev ## a long storm: make chaos KILLS=1000 SEED=7
	$(BIN)/python -m tests.chaos.storm --kills $(KILLS) $(if $(SEED),--seed $(SEED))

explore: $(STAMPS)/dev ## every interleaving of a lane: make explore ORDERS=4 FAULTS=2, or at random: make explore STEPS=1000000
	$(BIN)/python -m tests.core.lane_exploration --orders $(ORDERS) --faults $(FAULTS) $(if $(STEPS),--steps $(STEPS)) $(if $(SEED),--seed $(SEED))

fuzz: $(STAMPS)/tools ## mutated packages against the reader: make fuzz TURNS=100000 SEED=1
	$(BIN)/python -m tests.core.fuzz --turns $(TURNS) --seed $(or $(SEED),1)

screenshots: $(STAMPS)/tools $(CONSOLE) ## take docs/screenshots anew from the demo data
	$(BIN)/python -m scripts.screenshots

console: $(CONSOLE) ## build the console

wheel: $(STAMPS)/dev $(CONSOLE) ## one file to install, the built console in it: dist/restless_tide-*.whl
	rm -rf $(STAMPS)/wheel && mkdir -p $(STAMPS)/wheel dist
	cp -r src pyproject.toml README.md requirements $(STAMPS)/wheel/
	find $(STAMPS)/wheel -name __pycache__ -prune -exec rm -rf {} +
	cp -r console/dist $(STAMPS)/wheel/src/restless_tide/service/console_built
	$(BIN)/python -m pip wheel --quiet --no-deps --no-build-isolation --wheel-dir dist $(STAMPS)/wheel
	@ls dist/*.whl

contract: $(STAMPS)/dev $(STAMPS)/node ## renew the OpenAPI documents, the rulebook's schema and the console's types
	$(BIN)/python scripts/contract.py $(STAMPS)/contract
	cp $(STAMPS)/contract/openapi.json console/openapi.json
	cp $(STAMPS)/contract/gateway-openapi.json $(STAMPS)/contract/rulebook.schema.json $(STAMPS)/contract/dossier.schema.json docs/
	$(BIN)/python scripts/states.py console/src/states.ts
	cd console && npm run --silent types

lock: $(STAMPS)/dev ## compile the pinned requirements anew
	cd requirements && for set in runtime dev; do ../$(BIN)/pip-compile -q --upgrade --strip-extras --no-header --no-emit-index-url --no-emit-trusted-host --no-emit-find-links -o $$set.txt $$set.in; done

clean: ## remove everything that was made
	rm -rf $(VENV) $(STAMPS) console/node_modules console/dist .demo .bench

$(STAMPS)/python:
	@scripts/need.sh python $(PYTHON)
	@mkdir -p $(STAMPS)
	$(PYTHON) -m venv $(VENV)
	@touch $@

$(STAMPS)/runtime: $(STAMPS)/python requirements/runtime.txt pyproject.toml
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -r requirements/runtime.txt
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps --editable .
	@touch $@

$(STAMPS)/dev: $(STAMPS)/runtime requirements/dev.txt
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -r requirements/dev.txt
	@touch $@

$(STAMPS)/node: console/package-lock.json
	@scripts/need.sh node
	@mkdir -p $(STAMPS)
	cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

$(CONSOLE): $(STAMPS)/node $(CONSOLE_SOURCES)
	cd console && npx --no-install vite build --logLevel warn
	@touch $@

$(STAMPS)/tools: $(STAMPS)/dev
	@scripts/need.sh tools
	@touch $@
