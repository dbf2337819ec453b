"""How well names fit what somebody says: rare words count more than common ones, a whole name more than its words apart."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence

_WORD = re.compile(r"[0-9a-z]+")


def words_of(text: str) -> list[str]:
    """Words in small letters, signs left out."""
    return _WORD.findall(text.lower())


def as_id(text: str) -> str:
    """An identifier from words: small letters and digits, joined by hyphens; empty if there are none."""
    return "-".join(words_of(text))


def word_scores(titles: Mapping[str, str], names: Mapping[str, Sequence[str]], said: str) -> dict[str, float]:
    """Score of each entry that has any word of what was said.

    Each word counts by how few entries have it; a name that is all that was said adds 1, one that stands in it half of its share.
    """
    wanted = words_of(said)
    has = {key: Counter(words_of(" ".join((titles[key], *names[key])))) for key in titles}
    count = {word: max(1, sum(1 for words in has.values() if word in words)) for word in wanted}
    phrase = " ".join(wanted)
    found = {}
    for key in titles:
        score = sum(1.0 / count[word] for word in wanted if word in has[key])
        spelled = [" ".join(words_of(name)) for name in names[key]]
        score += max(
            (1.0 if name == phrase else 0.5 * len(name) / len(phrase) if name in phrase else 0.0 for name in spelled), default=0.0
        )
        if score > 0.0:
            found[key] = score
    return found
