"""Kinds of parts: what each does, where it sits, what fails and why, what is done about it, and what is due when.

What is said holds for the kind; the maker's instructions and service plan for the vehicle come first.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

from pydantic import Field

from sondar.core.circuit.families.base import Fields
from sondar.core.circuit.model import Unit
from sondar.core.circuit.network import Circuit
from sondar.core.quantities import format_distance
from sondar.core.word_match import word_scores, words_of

MODULE_KIND = "module"
NO_KIND = frozenset(("splice",))
NAMED_THEMSELVES = frozenset(("switch", "lamp"))
"""Families that stand in circuits of other parts: the circuit's name says nothing about them."""
COMING = 0.1
"""Share of an interval before its end in which it is said to come up."""
MONTHS = 12


class Interval(Fields):
    """Something that is due again and again; whichever of its figures is reached first."""

    do: str = Field(min_length=1, max_length=120)
    km: int | None = Field(None, gt=0)
    months: int | None = Field(None, gt=0)
    hours: int | None = Field(None, gt=0)


class PartKind(Fields):
    """One kind of part."""

    id: str = Field(pattern=r"^[a-z][a-z0-9-]*$")
    title: str
    words: list[str] = Field(min_length=1, description="Names that people call it by.")
    templates: list[str] = Field(default_factory=list, description="Typical circuits that it stands in.")
    families: list[str] = Field(default_factory=list, description="Families of parts of a circuit that are always of this kind.")
    does: str
    sits: str
    fails: str = Field(description="What fails, and why.")
    symptoms: list[str]
    do: Literal["replace", "clean", "repair", "clean or replace", "repair or replace"]
    cleaned_with: str = Field("", alias="with")
    never: str = Field(description="What spoils it, or hurts.")
    effort: Literal["easy", "moderate", "difficult"]
    minutes: int = Field(gt=0)
    learn: str = Field(description="What is taught, reset or adjusted after it was replaced.")
    intervals: list[Interval] = Field(default_factory=list)
    caution: str = ""


@dataclass(frozen=True)
class Due:
    """An interval of a vehicle.

    Attributes:
        state: due: its end has been reached as far as anything is known; coming: soon. said: by which figure, in words.
        key: what is kept when it has been done.
    """

    key: str
    kind: str
    do: str
    state: Literal["due", "coming"]
    said: str


def read_kinds(items: Iterable[Mapping[str, Any]]) -> dict[str, PartKind]:
    """Kinds by id.

    Raises:
        ValueError: an id stands twice, or a field is wrong.
    """
    found: dict[str, PartKind] = {}
    for item in items:
        kind = PartKind.model_validate(item)
        if kind.id in found:
            raise ValueError(f"kind of part '{kind.id}' is there twice")
        found[kind.id] = kind
    return found


def kinds_by_words(kinds: Mapping[str, PartKind], said: str) -> list[PartKind]:
    """Kinds for a part as somebody calls it, or for a symptom, best first; all if nothing is said."""
    if not said.strip():
        return sorted(kinds.values(), key=lambda kind: kind.title)
    titles = {key: kind.title for key, kind in kinds.items()}
    by_name = word_scores(titles, {key: kind.words for key, kind in kinds.items()}, said)
    by_trouble = word_scores(dict.fromkeys(kinds, ""), {key: [*kind.symptoms, kind.fails] for key, kind in kinds.items()}, said)
    phrase = " ".join(words_of(said))
    scores = {
        key: by_name.get(key, 0.0)
        + 0.5 * by_trouble.get(key, 0.0)
        + any(phrase in " ".join(words_of(one)) for one in kinds[key].symptoms)
        for key in {*by_name, *by_trouble}
    }
    least = 0.25 * max(scores.values(), default=0.0)
    return [kinds[key] for key, score in sorted(scores.items(), key=lambda one: (-one[1], one[0])) if score >= least]


def kind_of(kinds: Mapping[str, PartKind], circuit: Circuit, unit: Unit) -> PartKind | None:
    """The kind that a unit of a circuit is of: by its family, by its name, then by the circuit's. None for wires, contacts, joints and
    what nobody names so.
    """
    document = circuit.document
    if unit.id in document.modules:
        return kinds.get(MODULE_KIND)
    if unit.id not in document.parts:
        return None
    family = document.parts[unit.id].family
    own = next((kind for kind in kinds.values() if family in kind.families), None)
    if own is not None or family in NO_KIND:
        return own
    title = circuit.parts[unit.id].name(unit.id)
    for said in (title, f"{document.title} {title}") if family not in NAMED_THEMSELVES else (title,):
        fits = {key: kind for key, kind in kinds.items() if _named(kind, said)}
        scores = word_scores({key: kind.title for key, kind in fits.items()}, {key: kind.words for key, kind in fits.items()}, said)
        if scores:
            return kinds[max(scores, key=lambda key: (scores[key], key))]
    return None


def _named(kind: PartKind, said: str) -> bool:
    """True if a whole name of the kind stands in what is said, or all words of one do."""
    wanted = set(said.lower().replace("-", " ").split())
    return any(set(name.lower().replace("-", " ").split()) <= wanted for name in kind.words)


def kinds_in(kinds: Mapping[str, PartKind], circuits: Sequence[Circuit]) -> list[tuple[str, PartKind]]:
    """(name on the vehicle, kind) of every part of some circuits that is of a known kind, each once, in their order."""
    found: dict[tuple[str, str], PartKind] = {}
    for circuit in circuits:
        for unit in circuit.units.values():
            kind = kind_of(kinds, circuit, unit)
            if kind is not None:
                found.setdefault((unit.title, kind.id), kind)
    return [(name, kind) for (name, _), kind in found.items()]


def due_intervals(
    kinds: Sequence[PartKind],
    km: int | None,
    months: int | None,
    done: Mapping[str, tuple[int | None, int | None]],
    distance_unit: str = "km",
) -> list[Due]:
    """What is due or comes up on a vehicle, what is due first.

    Args:
        distance_unit: ``km`` or ``mi``, in which mileages are said.
        km: mileage now; None if nobody knows. months: age of the vehicle; None if nobody knows.
        done: key of an interval -> (mileage, age in months) when it was done last; None where that is not known.
    """
    found = []
    for kind in kinds:
        for number, interval in enumerate(kind.intervals):
            key = f"{kind.id}:{number}"
            at_km, at_months = done.get(key, (None, None))
            ways = [
                _reached(interval.km, km, at_km, lambda value: format_distance(value, distance_unit), key in done),
                _reached(interval.months, months, at_months, lambda value: f"{value:,} months", key in done),
            ]
            states = [way for way in ways if way is not None]
            first = min(states, key=lambda way: way[0] != "due", default=None)
            if first is not None:
                found.append(Due(key, kind.id, interval.do, first[0], first[1]))
    return sorted(found, key=lambda one: (one.state != "due", one.do))


def _reached(
    every: int | None, now: int | None, last: int | None, said: Callable[[int], str], recorded: bool
) -> tuple[Literal["due", "coming"], str] | None:
    """Whether the end of an interval has been reached by one figure; nothing if it is not near, or not known."""
    if every is None or now is None or (recorded and last is None):
        return None
    since = now - (last if last is not None else 0)
    if since >= every:
        if last is not None:
            return "due", f"every {said(every)}, done at {said(last)}: due since {said(last + every)}"
        return "due", f"every {said(every)}: no record that it was done; by the plan it was due at {said(now // every * every)}"
    if since >= every * (1.0 - COMING):
        return "coming", f"every {said(every)}: due at {said(now - since + every)}"
    return None
