.PHONY: demo test check bench soak screenshots clean
run := .venv/.ready-run
dev := .venv/.ready-dev

demo: $(run)
	@.venv/bin/jondel demo

# Tests in a terminal depend on how fast it answers, so nothing runs beside them.
test: check
	@.venv/bin/python -m pytest -q -n 2 --dist worksteal --ignore tests/terminal
	@.venv/bin/python -m pytest -q tests/terminal

check: $(dev)
	@command -v tmux >/dev/null || scripts/setup dev
	@.venv/bin/ruff check .
	@.venv/bin/ruff format --check .
	@.venv/bin/mypy

# The random tests with many more cases, kills and a minute of busy writing; takes an hour or so.
soak: $(dev)
	@JONDEL_SOAK=1 JONDEL_FIRST_SEED=$${JONDEL_FIRST_SEED:-$$(od -An -N3 -tu4 /dev/urandom | tr -d ' ')} \
		JONDEL_SEEDS=400 JONDEL_SERVER_SEEDS=300 JONDEL_KEY_SEEDS=40 JONDEL_SCRIPT_SEEDS=300 JONDEL_PLACE_SEEDS=60 JONDEL_KILLS=120 JONDEL_BUSY_SECONDS=60 \
		.venv/bin/python -m pytest --timeout=3600 tests/core tests/tui/test_any_keys.py tests/tui/test_same_place.py

bench: $(dev)
	@.venv/bin/python bench/start_up.py
	@.venv/bin/python bench/records.py
	@.venv/bin/python bench/time_travel.py
	@.venv/bin/python bench/insides.py
	@.venv/bin/python bench/commands.py
	@.venv/bin/python bench/server.py
	@.venv/bin/python bench/query.py
	@.venv/bin/python bench/verify.py

screenshots: $(dev)
	@.venv/bin/python scripts/screenshots.py

clean:
	rm -rf .venv .pytest_cache .mypy_cache .ruff_cache

$(run): pyproject.toml scripts/setup
	@scripts/setup

$(dev): pyproject.toml scripts/setup
	@scripts/setup dev
