"""What a form of limit is: its fields in the circuit file, and how it judges a reading or converts it before it is judged."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, ClassVar

from sondar.core.limits.conformity import Conformity, Measured
from sondar.core.quantities import format_si


@dataclass(frozen=True)
class Compared:
    """Another limit that a reading is compared with, and its newest reading (None if it has not been read as a figure)."""

    title: str
    label: str
    measured: Measured | None


@dataclass(frozen=True)
class Context:
    """Where a limit is judged.

    Attributes:
        temperature_c: of the parts. unit: of the instrument, empty for words.
        over: the instrument shows that the value is above its range.
        other: another limit of the circuit by its id.
    """

    temperature_c: float
    unit: str
    over: bool
    other: Callable[[str], Compared]


class NotComparedError(Exception):
    """The limit cannot be judged yet; the text says what to do."""


class Form(ABC):
    """A form of limit. ``limit`` is the limit of a circuit file, which has the fields of every form."""

    share: ClassVar[bool] = False
    """True if what is judged is a share and has no unit."""

    @abstractmethod
    def applies(self, limit: Any) -> bool:
        """True if the limit uses this form."""

    def check(self, limit: Any) -> None:
        """Raises:
        ValueError: fields that cannot be meant.
        """

    def refers_to(self, limit: Any) -> str:
        """Id of another limit whose reading it needs, empty for none."""
        return ""


class Judging(Form):
    """Says whether a value or a word keeps the limit; a limit uses exactly one."""

    @abstractmethod
    def expected(self, limit: Any, context: Context, figure: Callable[[float], str]) -> str:
        """What must be, in words."""

    @abstractmethod
    def judge(self, limit: Any, measured: Measured | None, word: str | None, context: Context) -> Conformity:
        """The decision on a figure or a word."""


class Converting(Form):
    """Turns a reading into what is judged: another temperature, a ratio, a difference."""

    @abstractmethod
    def convert(self, limit: Any, measured: Measured, shown: str, context: Context) -> tuple[Measured, str]:
        """What is judged, and how it is shown.

        Raises:
            NotComparedError: another reading is needed first.
        """


OHM = "Ω"


def least_of(context: Context) -> float | None:
    """Least that a quantity can be at all: a resistance is not negative, whatever a meter's zero makes of it."""
    return 0.0 if context.unit == OHM else None


def plain_figure(unit: str, share: bool) -> Callable[[float], str]:
    """How figures of a limit are written: with their unit, or as a percentage."""
    return lambda value: f"{value * 100:.1f} %" if share else format_si(value, unit)


def as_range(low: float | None, high: float | None, figure: Callable[[float], str]) -> str:
    """Two limits in words."""
    if low is None:
        assert high is not None
        return f"at most {figure(high)}"
    return f"at least {figure(low)}" if high is None else f"{figure(low)} to {figure(high)}"


def sure(kept: bool) -> Conformity:
    """A decision without doubt, on a word."""
    return Conformity("pass" if kept else "fail", float(kept), 0.0, 0.0)
