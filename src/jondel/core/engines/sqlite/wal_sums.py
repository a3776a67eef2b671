"""The checksums of many frames of a write-ahead log at once."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import numpy.typing as npt

from jondel.core.engines.sqlite.wal import FRAME_HEADER_BYTES

SUMMED_TOGETHER = 64
"""So many frames are worth looking at together; the log may end early."""
_WORD_MASK = 0xFFFFFFFF


def words_of(frames: npt.NDArray[np.uint8], big_endian: bool) -> npt.NDArray[np.uint32]:
    """What the checksum of each frame covers: its header's first two words and its page."""
    covered = np.concatenate((frames[:, :8], frames[:, FRAME_HEADER_BYTES:]), axis=1)
    return covered.view(">u4" if big_endian else "<u4").astype(np.uint32)


def weighted(words: npt.NDArray[np.uint32]) -> npt.NDArray[np.uint32]:
    """What rows of words add to the two sums, whatever these were before.

    Each step of the checksum (``s0 += x0 + s1; s1 += x1 + s0``) is linear modulo 2**32, so that
    a word's share is the word times a number which depends on its place alone.
    """
    weights = _weights(words.shape[1] // 2)
    with np.errstate(over="ignore"):
        return np.stack(
            [(words * weights[0]).sum(1, np.uint32), (words * weights[1]).sum(1, np.uint32)], 1
        )


@lru_cache(4)
def _weights(pairs: int) -> npt.NDArray[np.uint32]:
    """The factors of the words of so many pairs in the first and in the second sum."""
    first = np.empty(2 * pairs, np.uint32)
    second = np.empty(2 * pairs, np.uint32)
    # An x0 adds (1, 1) and an x1 adds (0, 1); each later step takes (a, b) to (a + b, a + 2b).
    zero, one = (1, 1), (0, 1)
    for place in range(pairs - 1, -1, -1):
        first[2 * place], second[2 * place] = zero
        first[2 * place + 1], second[2 * place + 1] = one
        zero, one = _stepped(zero), _stepped(one)
    return np.stack([first, second])


def _stepped(sums: tuple[int, int]) -> tuple[int, int]:
    first = (sums[0] + sums[1]) & _WORD_MASK
    return first, (first + sums[1]) & _WORD_MASK


@lru_cache(8)
def _fibonacci(pairs: int) -> tuple[int, int, int, int]:
    """What so many steps make of (1, 0) and of (0, 1)."""
    one, other = (1, 0), (0, 1)
    for _ in range(pairs):
        one, other = _stepped(one), _stepped(other)
    return (*one, *other)


def advanced(sums: tuple[int, int], pairs: int, first: int, second: int) -> tuple[int, int]:
    a, b, c, d = _fibonacci(pairs)
    return (
        (int(first) + a * sums[0] + c * sums[1]) & _WORD_MASK,
        (int(second) + b * sums[0] + d * sums[1]) & _WORD_MASK,
    )
