"""What a worker keeps is bounded in bytes, and looking at its size is no use of it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from cachetools import LRUCache

from sondar.app.computed import Cache, bytes_of


@dataclass
class Thing:
    array: np.ndarray
    kept: LRUCache


def thing(kilobytes: int) -> Thing:
    return Thing(np.zeros(kilobytes * 128), LRUCache(4))


def test_arrays_are_counted_once_wherever_they_are_kept() -> None:
    made = thing(8)
    made.kept["view"], made.kept["own"] = made.array[:10], np.zeros(128)
    assert bytes_of([made, made, {"again": made}]) == 9 * 1024


def test_counting_is_no_use() -> None:
    kept = LRUCache(2)
    kept["old"], kept["new"] = np.zeros(1), np.zeros(1)
    bytes_of(thing(1).__class__(np.zeros(1), kept))
    kept["newest"] = np.zeros(1)
    assert list(kept) == ["new", "newest"], "what was not asked for longest has gone"


def test_what_was_not_used_for_longest_goes_until_the_rest_fits() -> None:
    cache = Cache(10, most_bytes=25 * 1024)
    for name in ("a", "b", "c"):
        cache.get(name, lambda: thing(10))
    cache.get("a", lambda: thing(10))
    assert cache.shrink() == 20 * 1024
    made: list[str] = []
    for name in ("a", "c", "b"):
        cache.get(name, lambda n=name: made.append(n))  # type: ignore[misc]
    assert made == ["b"]


def test_the_one_in_use_stays_however_large_it_is() -> None:
    cache = Cache(10, most_bytes=1024)
    cache.get("large", lambda: thing(50))
    assert cache.shrink() == 50 * 1024
