# Two commands do everything: make demo, make test.
PYTHON ?= python3.11
PY := .venv/bin/python
PORT ?= 8080
DATA ?= data

.PHONY: setup demo test nightly mutation spark check bench fuzz pictures types docs wheel release clean

# in two at a time: the front end is built while the demo's people are made
READY := .venv/installed openmeadow/web/dist/index.html build/demo/24000.tar.gz
setup:
	@$(MAKE) --no-print-directory -j2 $(READY) .venv/installed-columns

# groups, each with its lock: what runs it, exports columns, tests it, checks it, and the peers it is measured beside
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

# what runs it, and no more
demo:
	@$(MAKE) --no-print-directory -j2 $(READY)
	$(PY) -m openmeadow --data $(DATA) demo --port $(PORT)

test: .venv/installed-test .venv/installed-columns openmeadow/web/dist/index.html
	@scripts/programs.sh chromium nginx
	cd frontend && npm run --silent test
	$(PY) -m pytest -n 4 --dist loadfile --no-loadscope-reorder

# what takes longer: ten times the kills, the seeds and the examples, and every browser test behind the proxy
nightly: .venv/installed-test .venv/installed-columns openmeadow/web/dist/index.html
	@scripts/programs.sh chromium nginx promtool
	MEADOW_PROFILE=nightly MEADOW_KILLS=400 MEADOW_SEEDS=20 MEADOW_LONG=100000 $(PY) -m pytest -n 2 --dist loadfile tests/core tests/services tests/web
	MEADOW_PROXY=1 $(PY) -m pytest -n 2 --dist loadfile tests/browser

check: $(TYPES) .venv/installed-lint
	.venv/bin/ruff check .
	.venv/bin/mypy
	cd frontend && npm run --silent check

build/mutation/env/bin/mutmut: requirements/mutation.lock .venv/installed-test .venv/installed-columns
	$(PYTHON) -m venv build/mutation/env
	build/mutation/env/bin/python -m pip install --quiet --disable-pip-version-check -r requirements/mutation.lock
	@cd .venv/lib/python3.11/site-packages && pwd > $(CURDIR)/build/mutation/env/lib/python3.11/site-packages/beside.pth

# changes the code in one place at a time and asks whether a test notices: SCOPE=core|services SAMPLE=400
SCOPE ?= core
mutation: build/mutation/env/bin/mutmut
	$(PY) -m scripts.mutation $(SCOPE) $(SAMPLE)

# rules as SQL on Spark in local mode; needs Java
spark: .venv/installed-test .venv/installed-columns requirements/spark.lock
	@command -v java >/dev/null || { echo "Spark needs Java: install default-jre-headless." >&2; exit 1; }
	[ -d build/spark/env ] || $(PYTHON) -m venv build/spark/env
	build/spark/env/bin/python -m pip install --quiet --disable-pip-version-check -r requirements/spark.lock
	rm -rf build/spark/case
	$(PY) -m scripts.spark prepare build/spark/case
	build/spark/env/bin/python -m scripts.spark compare build/spark/case

# the pages of docs/reference/ that the code itself tells
docs: .venv/installed
	$(PY) -m scripts.reference

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
	@scripts/programs.sh chromium nginx
	$(PY) -m bench.pictures

# what an administrator installs: the front end is in it, so the machine it runs on needs no Node
wheel: openmeadow/web/dist/index.html
	rm -rf build/wheel build/lib
	$(PY) -m pip wheel --quiet --disable-pip-version-check --no-deps --wheel-dir build/wheel .
	@ls build/wheel/*.whl

# VERSION=1.2.3: its headings, the workspace that later versions must open, the wheel and its test
release: .venv/installed-test .venv/installed-columns openmeadow/web/dist/index.html
	$(PY) -m scripts.release $(VERSION)

clean:
	rm -rf .venv build frontend/node_modules openmeadow/web/dist *.egg-info
