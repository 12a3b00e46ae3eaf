# `make demo` and `make test` each work alone on a fresh Debian 12 machine with Python 3.11.
PORT ?= 8400
export PORT
# `make demo DEMO=--no-live` starts no simulated packages.
DEMO ?=

.PHONY: demo test setup check lock bench screenshots

setup:
	@scripts/setup.sh

demo: setup
	@exec .venv/bin/python demo/run.py $(DEMO)

test: setup check
	@OPENBLAS_NUM_THREADS=1 .venv/bin/python -m pytest -n auto --maxprocesses 4

check: setup
	@.venv/bin/ruff check .
	@.venv/bin/ruff format --check -q .
	@.venv/bin/mypy --no-error-summary

bench: setup
	@.venv/bin/python benchmarks/start.py
	@.venv/bin/python benchmarks/road.py
	@.venv/bin/python benchmarks/intake.py
	@.venv/bin/python benchmarks/resample.py
	@.venv/bin/python benchmarks/reduce.py
	@.venv/bin/python benchmarks/proof.py
	@.venv/bin/python benchmarks/plates.py
	@.venv/bin/python benchmarks/derived.py
	@.venv/bin/python benchmarks/shows.py
	@.venv/bin/python benchmarks/many_files.py
	@.venv/bin/python benchmarks/growth.py
	@.venv/bin/python benchmarks/live.py

screenshots: setup
	@.venv/bin/python scripts/screenshots.py

# Needs the package `uv` at hand; names no registry.
lock:
	uv pip compile pyproject.toml --extra dev --generate-hashes --no-annotate --no-header --no-emit-index-url -p 3.11 -o requirements.lock
