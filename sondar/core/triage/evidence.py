"""Everything known of a vehicle before the first reading."""

from __future__ import annotations

from dataclasses import dataclass, field

from sondar.core.codes import evidence_weight
from sondar.core.triage.prior_factors import Answers


@dataclass(frozen=True)
class SeenCode:
    """A code that is stored. ``weight`` 1: it speaks of now; 0.5: as likely of an earlier time."""

    module: str
    code: str
    weight: float = 1.0

    @classmethod
    def of_status(cls, module: str, code: str, status: int | None) -> SeenCode:
        """Weight from the status byte."""
        return cls(module, code, evidence_weight(status))


@dataclass(frozen=True)
class Evidence:
    """Everything known before the first reading.

    Attributes:
        codes: stored codes.
        read: modules that answered and whose codes are all listed; None if only a list of codes is known (typed or pasted),
            which says less about the absent ones.
        silent: modules that did not answer.
        untested: codes whose status says not tested since clearing.
        symptoms: keys seen; ``denied`` were asked for and are not there.
        answers: the intake.
    """

    codes: tuple[SeenCode, ...] = ()
    read: frozenset[str] | None = None
    silent: frozenset[str] = frozenset()
    untested: frozenset[str] = frozenset()
    symptoms: frozenset[str] = frozenset()
    denied: frozenset[str] = frozenset()
    answers: Answers = field(default_factory=Answers)

    @property
    def is_empty(self) -> bool:
        """True when there is nothing to triage from."""
        return not (self.codes or self.silent or self.symptoms)
