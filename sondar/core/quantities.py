"""Figures as people type and read them: ``12.4``, ``12,4``, ``4k7``, ``50m``, ``1.2 kΩ``.

SI inside, shop units at the edge: everything here turns text into a bare SI number plus the resolution
that the text implies, or an SI number into a short label with its unit.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

from sondar.core.errors import QuantityError

PREFIXES = {"p": 1e-12, "n": 1e-9, "u": 1e-6, "µ": 1e-6, "μ": 1e-6, "m": 1e-3, "": 1.0, "k": 1e3, "K": 1e3, "M": 1e6, "G": 1e9}
"""SI prefixes (SI brochure, 9th edition, table 7), with the shop spellings ``u`` and ``K``."""

UNIT_WORDS = {"v": "V", "volt": "V", "volts": "V", "ω": "Ω", "ohm": "Ω", "ohms": "Ω", "r": "Ω", "a": "A", "amp": "A",
              "hz": "Hz", "%": "%", "w": "W", "s": "s", "°c": "°C", "c": "°C"}  # fmt: skip

ABOUT_SHARE = 0.05
"""Half-width that "about" leaves open, as a share of the figure."""

_RANGE = re.compile(
    r"^(?:min\s*)?(?P<low>.*?\S)\s*"
    r"(?:\.\.+|…|/|\bto\b|(?<=[\d\w%])\s*[-–]\s*(?=[\d.,])|\bmax\b)\s*"
    r"(?P<high>\S.*)$",
    re.IGNORECASE,
)
_ABOUT = re.compile(r"^(?:~|≈|about\s|ca\.?\s|around\s)\s*(?P<rest>.+)$", re.IGNORECASE)
_SPREAD = re.compile(r"^(?P<middle>.+?)\s*(?:±|\+/-|\+-)\s*(?P<half>.+)$")

_NUMBER = re.compile(
    r"^(?P<sign>[+\-−]?)\s*(?P<whole>\d*)(?:[.,](?P<frac>\d*))?\s*"
    r"(?P<prefix>[pnuµμmkKMG]?)(?:(?P<tail>\d+))?\s*(?P<unit>°?[a-zA-ZΩω%]*)$"
)


@dataclass(frozen=True)
class Entry:
    """What was typed, understood.

    Attributes:
        value: number in SI units, or None for a word.
        resolution: half-width in SI units that the last typed digit, the range or "about" leaves open (0 for a word).
        state: a word of the instrument, or None for a figure.
        unit: unit symbol found in the text, or None when the instrument decides.
    """

    value: float | None
    resolution: float
    state: str | None
    unit: str | None


def parse_entry(text: str) -> Entry:
    """Understand one typed figure: ``12.4``, a range (``0.2..4.8``, ``min 0.2 max 4.8``), ``~12``, ``12±0.3``, ``<0.1``.

    Raises:
        QuantityError: not a number with an optional prefix and unit; words belong to the instruments.
    """
    cleaned = text.strip()
    return _uncertain(cleaned, text) or _number(cleaned, text)


def _uncertain(cleaned: str, text: str) -> Entry | None:
    """A range, a bound, "about" or a figure with ±; None if it is none of these."""
    if cleaned.startswith(("<", "≤")):
        top, _, unit = _figure(cleaned[1:].strip(), text)
        return Entry(0.5 * top, 0.5 * abs(top), None, unit)
    if cleaned.startswith((">", "≥")):
        raise QuantityError(text, "a range such as 10k..40k, or OL when it is above what the meter shows")
    if found := _ABOUT.match(cleaned):
        middle, digit, unit = _figure(found["rest"].strip(), text)
        return Entry(middle, max(digit, ABOUT_SHARE * abs(middle)), None, unit)
    if found := _SPREAD.match(cleaned):
        middle, digit, unit = _figure(found["middle"].strip(), text)
        half, _, other = _figure(found["half"].strip(), text)
        return Entry(middle, digit + abs(half), None, unit or other)
    if found := _RANGE.match(cleaned):
        low, _, unit = _figure(found["low"].strip(), text)
        high, digit, other = _figure(found["high"].strip(), text)
        suffix = re.search(r"[pnuµμmkKMG](?=[a-zA-ZΩω%°]*$)", found["high"])
        if unit is None and suffix and not re.search(r"[a-zA-ZΩω%°]", found["low"]):
            low *= PREFIXES[suffix[0]]  # "4.5-4.9k" means kilo for both
        if low > high:
            raise QuantityError(text, "the lower end first: 0.2..4.8")
        return Entry(0.5 * (low + high), 0.5 * (high - low) + digit, None, other or unit)
    return None


def _number(cleaned: str, text: str) -> Entry:
    value, resolution, unit = _figure(cleaned, text)
    return Entry(value, resolution, None, unit)


def _figure(cleaned: str, text: str) -> tuple[float, float, str | None]:
    """Value and half of its last digit in SI units, and its unit if one was given."""
    match = _NUMBER.match(cleaned)
    if match is None or not (match["whole"] or match["frac"]):
        raise QuantityError(text, "a number such as 12.4, 12,4, 4k7, 50m or 1.2 kΩ, or a range such as 0.2..4.8")
    prefix, tail, unit_text = match["prefix"], match["tail"], match["unit"]
    if tail and (match["frac"] is not None or not prefix):
        raise QuantityError(text, "one decimal sign: 4k7 or 4.7k, not both")
    digits = f"{match['whole'] or '0'}.{match['frac'] or tail or '0'}"
    decimals = len(match["frac"] or tail or "")
    unit = None
    if unit_text:
        unit = UNIT_WORDS.get(unit_text.lower())
        if unit is None:
            raise QuantityError(text, "a unit such as V, Ω, A, Hz or %")
    scale = PREFIXES[prefix]
    sign = -1.0 if match["sign"] in ("-", "−") else 1.0
    return sign * float(digits) * scale, 0.5 * 10.0**-decimals * scale, unit


def parse_si(value: object) -> float:
    """Read a number or a quantity string such as ``"4k7"`` or ``"20 mΩ"`` of a document as an SI number.

    Raises:
        ValueError: not a finite number (Pydantic reports it at the field).
    """
    if isinstance(value, bool) or value is None:
        raise ValueError("expected a number or a quantity such as 4k7 or 20 mΩ")
    if isinstance(value, int | float):
        number = float(value)
    else:
        try:
            entry = parse_entry(str(value))
        except QuantityError as error:
            raise ValueError(f"'{value}' is not a number or a quantity such as 4k7 or 20 mΩ") from error
        if entry.value is None:
            raise ValueError(f"'{value}' is not a number or a quantity such as 4k7 or 20 mΩ")
        number = entry.value
    if not math.isfinite(number):
        raise ValueError("must be finite")
    return number


def format_si(value: float, unit: str, digits: int = 3) -> str:
    """Short shop label of an SI value: ``12.4 V``, ``82 mV``, ``4.70 kΩ``, with a true minus sign."""
    if value < 0:
        return f"−{format_si(-value, unit, digits)}"
    if not math.isfinite(value):
        return f"— {unit}".strip()
    if unit == "V":
        if abs(value) < 0.9995 and value != 0 and abs(value) >= 0.0005:
            return f"{value * 1e3:.0f} mV" if abs(value) >= 0.0995 else f"{value * 1e3:.1f} mV"
        return f"{value:.2f} V" if abs(value) < 100 else f"{value:.0f} V"
    magnitude = abs(value)
    for scale, prefix in ((1e6, "M"), (1e3, "k"), (1.0, ""), (1e-3, "m")):
        if magnitude >= 0.9995 * scale:
            return f"{_significant(value / scale, digits)} {prefix}{unit}".strip()
    return f"{_significant(value / 1e-3, digits)} m{unit}" if magnitude > 1e-6 else f"0 {unit}".strip()


def _significant(value: float, digits: int) -> str:
    whole = max(1, math.floor(math.log10(abs(value))) + 1) if value else 1
    return f"{value:.{max(0, digits - whole)}f}"


def format_share(share: float) -> str:
    """A probability as people say it, kept on one line: ``97 %``; never a false certainty."""
    if share > 0.995:
        return "over\u00a099\u00a0%"
    return "under\u00a01\u00a0%" if share < 0.005 else f"{share * 100:.0f}\u00a0%"


KM_PER_MILE = 1.609344
"""Exact, by the international yard and pound agreement of 1959."""


def format_distance(kilometres: float, unit: str) -> str:
    """A mileage as a workshop reads it; ``unit`` is ``km`` or ``mi``."""
    return f"{round(kilometres / KM_PER_MILE)} miles" if unit == "mi" else f"{round(kilometres)} km"
