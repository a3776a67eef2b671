"""How long it takes to say what differs inside large values, against reading these once.

Each figure is a ratio within one run: the time of ``inside_of`` over that of parsing both JSON
texts, or of comparing both texts or blobs character by character in Python's own way. Four times
the size must not take much more than four times as long.
"""

from __future__ import annotations

import json
import random
import sys
import time
from collections.abc import Callable
from functools import partial
from itertools import pairwise
from typing import Any

from jondel.core.diff.inside import inside_of

_RUNS = 3
_SIZES = (1, 4, 16)
_MOST_GROWTH = 8.0


def _json(size: int) -> tuple[str, str]:
    chance = random.Random(size)
    rows = [{"id": n, "note": str(chance.random()), "at": [n, n]} for n in range(15_000 * size)]
    before = json.dumps(rows)
    for _ in range(40):
        rows[chance.randrange(len(rows))]["note"] = "changed"
        rows.pop(chance.randrange(len(rows)))
    return before, json.dumps(rows)


def _lines(size: int) -> tuple[str, str]:
    chance = random.Random(size)
    lines = [f"{chance.random()} berth {n}" for n in range(30_000 * size)]
    before = "\n".join(lines)
    for _ in range(40):
        lines[chance.randrange(len(lines))] = "changed"
    return before, "\n".join(lines)


def _nothing_alike(size: int) -> tuple[str, str]:
    chance = random.Random(size)
    one, other = ("".join(chance.choices("abcdefgh \n", k=size * 1_000_000)) for _ in range(2))
    return one, other


def _blob(size: int) -> tuple[bytes, bytes]:
    return b"x" * size * 1_000_000 + b"a", b"x" * size * 1_000_000 + b"bc"


def _parsed(before: str, after: str) -> tuple[Any, Any]:
    return json.loads(before), json.loads(after)


def _compared(before: Any, after: Any) -> int:
    return sum(one == other for one, other in zip(before, after, strict=False))


def _best(work: Callable[[], Any]) -> float:
    taken = []
    for _ in range(_RUNS):
        started = time.perf_counter()
        work()
        taken.append(time.perf_counter() - started)
    return min(taken)


def main() -> int:
    """Print a line for each shape and size; exit with 1 where one takes its square."""
    failed = False
    for make in (_json, _lines, _nothing_alike, _blob):
        times = []
        for size in _SIZES:
            before, after = make(size)
            base = _best(partial(_parsed if make is _json else _compared, before, after))
            times.append(_best(partial(inside_of, before, after)))
            print(
                f"{make.__name__[1:]:<14} {len(before) / 1e6:6.1f} MB  {times[-1]:7.3f} s  "
                f"{times[-1] / base:5.2f} × reading both once"
            )
        growth = max(later / earlier for earlier, later in pairwise(times))
        failed |= growth > _MOST_GROWTH and times[-1] > 0.2
        print(f"{'':<14} four times the size: at most {growth:.1f} × (target {_MOST_GROWTH})")
    return int(failed)


if __name__ == "__main__":
    sys.exit(main())
