.PHONY: demo test check bench soak screenshots clean
run := .venv/.ready-run
dev := .venv/.ready-dev

demo: $(run)
	@.venv/bin/jondel demo

test: check
	@.venv/bin/python -m pytest -q

check: $(dev)
	@command -v tmux >/dev/null || scripts/setup dev
	@.venv/bin/ruff check .
	@.venv/bin/ruff format --check .
	@.venv/bin/mypy

# The random tests with many more cases; takes some minutes.
soak: $(dev)
	@.venv/bin/python -m pytest -q --hypothesis-profile=soak tests/core

bench: $(dev)
	@.venv/bin/python bench/start_up.py

screenshots: $(dev)
	@.venv/bin/python scripts/screenshots.py

clean:
	rm -rf .venv .pytest_cache .mypy_cache .ruff_cache

$(run): pyproject.toml scripts/setup
	@scripts/setup

$(dev): pyproject.toml scripts/setup
	@scripts/setup dev
