"""After a repair: whether each code stays away and its test has run, how far a reading still is from its range, and how the repair stands.

A code that is not listed proves nothing by itself: its test may not have run since clearing. Bits 4 and 5 of the status byte (ISO 14229-1 annex D:
test not completed, test failed since last clear) tell the two apart where the module says them.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from sondar.core.codes import FoundCode, is_stored, status_words

CodeState = Literal["passed", "not there", "not completed", "failed again", "not read", "not cleared"]
Outcome = Literal["fixed", "partly", "not fixed", "open"]

NOT_COMPLETED, FAILED = 0x10, 0x20
FAILING_NOW = 0x01


@dataclass(frozen=True)
class Look:
    """One reading of the codes since they were cleared after the repair.

    Attributes:
        conditions: what had been run since clearing. modules: module -> True if it answered; empty for a list that was typed.
    """

    after_s: float
    conditions: frozenset[str]
    modules: Mapping[str, bool | str]
    codes: tuple[FoundCode, ...]

    @property
    def by_hand(self) -> bool:
        """Typed off a scan tool: what is not on the list may not have been tested."""
        return not self.modules


@dataclass(frozen=True)
class CodeProof:
    """A code that was stored before the repair, or is new since.

    Attributes:
        before: its status then, in words. said: why it stands where it stands, as a sentence.
    """

    code: str
    module: str
    before: tuple[str, ...]
    state: CodeState
    said: str


def code_proofs(before: Sequence[FoundCode], looks: Sequence[Look] | None, wanted: Iterable[str] = ()) -> list[CodeProof]:
    """How each code stands, the ones from before the repair first.

    Args:
        before: codes stored before the repair. looks: since clearing after the repair, in order; None if nothing was cleared since.
        wanted: conditions under which the complaint occurs, as they are run.
    """
    # A code that was typed without its module, and read with it, is one code.
    known = [code for code in before if code.module or not any(other.module and _same(code, other) for other in before)]
    proofs = [_proof(code, looks, frozenset(wanted)) for code in dict.fromkeys(known)]
    stored = [code for look in looks or () for code in look.codes if is_stored(code.status)]
    new = {(code.module or "", code.code): code for code in stored if not any(_same(code, old) for old in before)}
    return proofs + [
        CodeProof(code.code, code.module or "", (), "failed again", "It is new since the repair.") for code in new.values()
    ]


def _same(one: FoundCode, other: FoundCode) -> bool:
    """The same code of the same module, as far as the lists say which."""
    return one.code == other.code and (not one.module or not other.module or one.module == other.module)


def _proof(code: FoundCode, looks: Sequence[Look] | None, wanted: frozenset[str]) -> CodeProof:
    state, said = _state(code, looks, wanted)
    return CodeProof(code.code, code.module or "", tuple(status_words(code.status)), state, said)


def _state(code: FoundCode, looks: Sequence[Look] | None, wanted: frozenset[str]) -> tuple[CodeState, str]:
    if looks is None:
        return "not cleared", "The codes have not been cleared since the repair."
    if not looks:
        return "not read", "The codes have been cleared and not been read since."
    last = looks[-1]
    listed = [one for one in last.codes if _same(one, code)]
    if listed and is_stored(listed[0].status):
        return "failed again", f"It is back: {', '.join(status_words(listed[0].status)) or 'status not said'}."
    if listed and listed[0].status is not None and listed[0].status & NOT_COMPLETED:
        return "not completed", "Its test has not been completed since clearing."
    earlier = next((look for look in looks for one in look.codes if _same(one, code) and is_stored(one.status)), None)
    if earlier is not None:
        return "failed again", f"It was back {earlier.after_s:.0f} s after clearing, and is not listed now."
    if last.by_hand:
        return _by_hand(looks, wanted)
    answered = last.modules.get(code.module or "")
    if answered is not True and code.module:
        return "not read", f"{code.module} did not say its codes{f': {answered}' if isinstance(answered, str) else ''}."
    return "passed", "Its test was completed and passed since clearing."


def _by_hand(looks: Sequence[Look], wanted: frozenset[str]) -> tuple[CodeState, str]:
    run = frozenset[str]().union(*(look.conditions for look in looks))
    missing = sorted(wanted - run)
    if missing:
        return "not there", f"It is not on the list, but the complaint's own conditions were not all run: {', '.join(missing)}."
    if wanted:
        return (
            "not there",
            "It is not on the list after the complaint's own conditions; whether its test ran, the list does not say.",
        )
    return "not there", "It is not on the list; whether its test ran since clearing, the list does not say."


@dataclass(frozen=True)
class Distance:
    """How far a reading lies outside its range, in its unit; zero inside.

    Attributes:
        side: on which side it lies.
    """

    by: float
    side: Literal["above", "below", ""]


def distance(value: float, low: float, high: float) -> Distance:
    """How far a value lies outside ``low`` to ``high``."""
    if value > high:
        return Distance(value - high, "above")
    if value < low:
        return Distance(low - value, "below")
    return Distance(0.0, "")


@dataclass(frozen=True)
class Standing:
    """How the repair stands as a whole.

    Attributes:
        sentence: what speaks for it. left: what is still to be done or seen, each as a sentence.
    """

    outcome: Outcome
    sentence: str
    left: tuple[str, ...]


def standing(readings: Sequence[bool | None], codes: Sequence[CodeProof], repaired: bool, improved: bool) -> Standing:
    """How a repair stands.

    Args:
        readings: for each test that failed before whether it is within its range now; None while it has not been repeated.
        improved: some reading that is still outside its range is nearer to it than before.
    """
    if not repaired:
        return Standing("open", "No repair is recorded.", ())
    failed, open_readings = readings.count(False), readings.count(None)
    back = [code.code for code in codes if code.state == "failed again"]
    unread = [code.code for code in codes if code.state in ("not cleared", "not read", "not completed")]
    left = []
    if open_readings:
        have = "has" if open_readings == 1 else "have"
        left.append(f"{open_readings} of {len(readings)} tests that failed before {have} not been repeated.")
    if failed:
        left.append(
            f"{failed} of {len(readings)} tests {'is' if failed == 1 else 'are'} still outside {'its' if failed == 1 else 'their'} range."
        )
    if back:
        left.append(f"Back or new since the repair: {', '.join(back)}.")
    if unread:
        left.append(f"Not proved to stay away: {', '.join(unread)}.")
    if failed or back:
        better = readings.count(True) > 0 or improved or any(code.state == "passed" for code in codes)
        if better:
            return Standing("partly", "Something is better, and it is not good enough yet.", tuple(left))
        return Standing("not fixed", "What failed before still fails.", tuple(left))
    if left:
        return Standing("open", "Nothing speaks against the repair, and it is not proved yet.", tuple(left))
    if not readings and not codes:
        return Standing(
            "open", "Nothing had failed before it that could be repeated: reproduce the complaint and see that it is gone.", ()
        )
    return Standing("fixed", "Everything that failed before is in order now.", ())
