"""Everyday names of the same part, so that a search finds it by any of them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

_WORD = re.compile(r"[0-9A-Za-zÀ-ÿ]+")


def search_query(text: str, groups: Iterable[Sequence[str]]) -> str | None:
    """What a person typed, as PostgreSQL ``tsquery`` text; None if it holds no word.

    All words must be there; each may be the beginning of a word, or any name of the same thing. Only letters and digits come
    through, so nothing typed can be read as an operator.

    Args:
        groups: lists of names for one thing, e.g. ``[("map", "manifold pressure sensor"), …]``.
    """
    words = [w.lower() for w in _WORD.findall(text)]
    if not words:
        return None
    names = [[tuple(w.lower() for w in _WORD.findall(name)) for name in group] for group in groups]
    parts: list[str] = []
    at = 0
    while at < len(words):
        length, alternatives = _longest(words[at:], names)
        if length:
            parts.append("(" + " | ".join(_phrase(name) for name in alternatives) + ")")
            at += length
        else:
            parts.append(f"{words[at]}:*")
            at += 1
    return " & ".join(parts)


def _longest(words: Sequence[str], groups: Sequence[Sequence[tuple[str, ...]]]) -> tuple[int, list[tuple[str, ...]]]:
    """The longest name that the words begin with, and all names of its group."""
    best, found = 0, list[tuple[str, ...]]()
    for group in groups:
        for name in group:
            if name and len(name) > best and tuple(words[: len(name)]) == name:
                best, found = len(name), list(group)
    return best, found


def _phrase(words: Sequence[str]) -> str:
    return words[0] + ":*" if len(words) == 1 else "(" + " <-> ".join(words) + ")"
