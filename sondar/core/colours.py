"""Colours of wires: from codes and abbreviations to words, main colour first.

Codes are those of IEC 60757; beside them stand abbreviations of the trade in English and German. What may mean two colours is asked.
"""

from __future__ import annotations

import re

from sondar.core.errors import InvalidError, invalid

WORDS = (
    "black", "brown", "red", "orange", "yellow", "green", "blue", "violet", "grey", "white", "pink", "gold", "turquoise", "silver",
    "light green", "light blue", "dark green", "dark blue", "beige", "natural",
)  # fmt: skip
CODES = {
    "bk": "black", "bn": "brown", "rd": "red", "og": "orange", "ye": "yellow", "gn": "green", "bu": "blue", "vt": "violet", "gy": "grey",
    "wh": "white", "pk": "pink", "gd": "gold", "tq": "turquoise", "sr": "silver",
    "blk": "black", "brn": "brown", "org": "orange", "yel": "yellow", "grn": "green", "blu": "blue", "vio": "violet", "pur": "violet",
    "ppl": "violet", "purple": "violet", "gry": "grey", "gray": "grey", "wht": "white", "pnk": "pink", "tan": "beige", "bei": "beige",
    "nat": "natural", "lg": "light green", "lb": "light blue", "dg": "dark green", "db": "dark blue",
    "sw": "black", "rt": "red", "ge": "yellow", "ws": "white", "li": "violet", "rs": "pink",
    "r": "red", "w": "white", "y": "yellow", "o": "orange", "v": "violet",
}  # fmt: skip
AMBIGUOUS = {
    "bl": ("black", "blue"), "b": ("black", "blue", "brown"), "br": ("brown", "red with black"), "gr": ("green", "grey"), "g": ("green", "grey"),
    "p": ("pink", "violet"), "or": ("orange",), "l": ("blue", "violet"), "s": ("silver", "black", "grey"),
}  # fmt: skip
_BETWEEN = re.compile(r"\s*[/\-+,]\s*|\s+(?:with|and)\s+")


def colour_of(text: str) -> str:
    """A wire's colour in words, stripes after a slash: ``BN/WH`` is ``brown/white``; empty text is no colour.

    Raises:
        InvalidError: not a colour, or one of several; names them.
    """
    said = text.strip().lower()
    if not said:
        return ""
    parts = [part for part in _BETWEEN.split(said) if part]
    if len(parts) == 1 and said not in WORDS and re.fullmatch(r"[a-z]{4}", said) and all(said[i : i + 2] in CODES for i in (0, 2)):
        parts = [said[:2], said[2:]]  # IEC 60757 writes green and yellow as GNYE
    if len(parts) > 3:
        raise _wrong(text, "at most a main colour and two stripes")
    return "/".join(_one(part, text) for part in parts)


def _one(part: str, whole: str) -> str:
    if part in WORDS:
        return part
    if part in CODES:
        return CODES[part]
    meant = AMBIGUOUS.get(part, ())
    if len(meant) == 1:
        return meant[0]
    if meant:
        raise _wrong(whole, f"'{part}' may be {' or '.join(meant)}: write the word")
    raise _wrong(whole, f"'{part}' is no colour: one of {', '.join(WORDS[:11])} or its code, e.g. BN/WH")


def _wrong(whole: str, why: str) -> InvalidError:
    said = whole.strip()[:40]
    return invalid("colour", why if why.lower().startswith(f"'{said.lower()}'") else f"'{said}': {why}")
