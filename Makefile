# `make demo` and `make test` each work alone on a fresh Debian 12 machine with Python 3.11.
PORT ?= 8400
export PORT
# `make demo DEMO=--no-live` starts no simulated packages.
DEMO ?=

.PHONY: demo test test-long setup check checks lock bench screenshots

setup:
	@scripts/setup.sh

demo: setup
	@exec .venv/bin/python demo/run.py $(DEMO)

# A third of a test's time is waiting for another process: three tests run on two cores, and at most six.
WORKERS = $(shell n=$$(( ($$(nproc) * 3 + 1) / 2 )); echo $$(( n > 6 ? 6 : n )))

# Tests start some fifty processes, and each would compile our modules anew where their compiled form may not be written.
PYTEST = PYTHONDONTWRITEBYTECODE= OPENBLAS_NUM_THREADS=1 .venv/bin/python -m pytest -n $(WORKERS) --dist worksteal

# Everything, at a size that finds faults: before every commit, and in CI.
test: checks
	@$(TYPES) & types=$$!; $(PYTEST) --durations=10; tests=$$?; \
	wait $$types || { echo "mypy found the errors of types above"; exit 1; }; exit $$tests

# The heavy ones at full size, an hour of ten people's work with kills, and a run of mutations: before a release.
test-long: check
	@ANAXIS_TEST_LONG=1 $(PYTEST) --durations=40
	@.venv/bin/python scripts/soak.py --minutes 60 --users 10 --kill-every 5
	@.venv/bin/python scripts/fuzz.py 2000
	@.venv/bin/python scripts/mutate.py

# The types take 40 s on one core: `make test` checks them beside the tests.
TYPES = .venv/bin/mypy --no-error-summary

check: checks
	@$(TYPES)

checks:
	@scripts/setup.sh checks
	@.venv/bin/ruff check .
	@.venv/bin/ruff format --check -q .
	@node_modules/.bin/biome lint --log-level=warn
	@node --test --test-reporter=dot tests/scripts/*.test.js

bench: setup
	@.venv/bin/python benchmarks/start.py
	@.venv/bin/python benchmarks/road.py
	@.venv/bin/python benchmarks/library.py
	@.venv/bin/python benchmarks/intake.py
	@.venv/bin/python benchmarks/sets.py
	@.venv/bin/python benchmarks/resample.py
	@.venv/bin/python benchmarks/reduce.py
	@.venv/bin/python benchmarks/proof.py
	@.venv/bin/python benchmarks/plates.py
	@.venv/bin/python benchmarks/derived.py
	@.venv/bin/python benchmarks/shows.py
	@.venv/bin/python benchmarks/scale.py
	@.venv/bin/python benchmarks/many_files.py
	@.venv/bin/python benchmarks/growth.py
	@.venv/bin/python benchmarks/live.py

screenshots:
	@scripts/setup.sh checks
	@.venv/bin/python scripts/screenshots.py

lock:
	@.venv/bin/python scripts/lock.py
