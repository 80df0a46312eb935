# Two commands do everything: make demo, make test.
PYTHON ?= python3.11
PY := .venv/bin/python
PORT ?= 8080
DATA ?= data

.PHONY: setup demo test check bench fuzz pictures types wheel clean

setup: .venv/installed openmeadow/web/dist/index.html build/demo/24000.tar.gz

# four groups, each with its lock: what runs it, tests it, checks it, and the peers it is measured beside
PIP := $(PY) -m pip install --quiet --disable-pip-version-check

.venv/installed: requirements/runtime.lock pyproject.toml
	@scripts/need.sh
	@command -v $(PYTHON) >/dev/null 2>&1 && $(PYTHON) -m venv .venv || python3 -m venv .venv
	$(PIP) -r requirements/runtime.lock
	$(PIP) --no-deps -e .
	@touch $@

.venv/installed-%: requirements/%.lock .venv/installed
	$(PIP) -r requirements/$*.lock
	@touch $@

frontend/node_modules/.package-lock.json: frontend/package.json frontend/package-lock.json
	@scripts/need.sh
	cd frontend && npm install --silent --no-audit --no-fund --no-save

TYPES := frontend/src/api/types.ts
$(TYPES): .venv/installed frontend/node_modules/.package-lock.json $(wildcard openmeadow/core/states.py openmeadow/core/delivery/plan.py openmeadow/services/models/*.py openmeadow/web/*.py openmeadow/web/schemas/*.py openmeadow/web/api/*.py openmeadow/web/api/*/*.py) frontend/scripts/types.mjs
	$(PY) -m openmeadow.web.describe | node frontend/scripts/types.mjs $@

openmeadow/web/dist/index.html: $(TYPES) $(shell find frontend/src frontend/public frontend/index.html frontend/vite.config.ts -type f)
	cd frontend && npm run --silent build

build/demo/24000.tar.gz: .venv/installed
	$(PY) -m openmeadow demo --prepare

demo: setup
	$(PY) -m openmeadow --data $(DATA) demo --port $(PORT)

test: .venv/installed-test openmeadow/web/dist/index.html
	@scripts/chromium.sh
	cd frontend && npm run --silent test
	$(PY) -m pytest -n 2 --dist loadfile

check: $(TYPES) .venv/installed-lint
	.venv/bin/ruff check .
	.venv/bin/mypy
	cd frontend && npm run --silent check

types:
	@rm -f $(TYPES)
	@$(MAKE) --no-print-directory $(TYPES)

bench: setup .venv/installed-bench
	$(PY) -m bench

build/fuzz/bin/schemathesis: requirements/fuzz.lock
	$(PYTHON) -m venv build/fuzz
	build/fuzz/bin/python -m pip install --quiet --disable-pip-version-check -r requirements/fuzz.lock

# ten minutes of made-up requests to the whole API, as an analyst and as a writer
fuzz: .venv/installed openmeadow/web/dist/index.html build/fuzz/bin/schemathesis
	$(PY) scripts/fuzz.py $(MINUTES)

pictures: setup .venv/installed-test
	@scripts/chromium.sh
	$(PY) -m bench.pictures

# what an administrator installs: the front end is in it, so the machine it runs on needs no Node
wheel: openmeadow/web/dist/index.html
	rm -rf build/wheel build/lib
	$(PY) -m pip wheel --quiet --disable-pip-version-check --no-deps --wheel-dir build/wheel .
	@ls build/wheel/*.whl

clean:
	rm -rf .venv build frontend/node_modules openmeadow/web/dist *.egg-info
