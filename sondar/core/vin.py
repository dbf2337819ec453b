"""Vehicle identification numbers: form and check digit."""

from __future__ import annotations

_VALUE = dict(zip("ABCDEFGHJKLMNPRSTUVWXYZ", [*range(1, 9), *range(1, 6), 7, 9, *range(2, 10)], strict=True))
_WEIGHT = (8, 7, 6, 5, 4, 3, 2, 10, 0, 9, 8, 7, 6, 5, 4, 3, 2)


def check_digit(vin: str) -> str:
    """The digit that belongs at position 9: weighted sum of the transliterated characters modulo 11, 10 as X (ISO 3779, SAE J853)."""
    total = sum(w * (int(c) if c.isdigit() else _VALUE[c]) for c, w in zip(vin, _WEIGHT, strict=True))
    return "0123456789X"[total % 11]


def vin_problem(vin: str) -> str | None:
    """What is wrong with a VIN, or None. A wrong form is an error; a wrong check digit may be a manufacturer that does not use it."""
    if len(vin) != 17:
        return f"a VIN has 17 characters, this has {len(vin)}"
    wrong = sorted({c for c in vin if not (c.isascii() and c.isdigit()) and c not in _VALUE})
    if wrong:
        return f"a VIN has no {', '.join(wrong)}: digits and capital letters but I, O and Q"
    return None


def vin_warning(vin: str) -> str | None:
    """Said when the check digit does not fit: a writing error, or a manufacturer that does not use it."""
    expected = check_digit(vin)
    if vin[8] == expected:
        return None
    return f"the check digit (9th place) is {vin[8]}, from the others it would be {expected}: compare with the plate"
