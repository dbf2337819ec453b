"""What a worker computes from circuit documents and keeps: parsed circuits, predictors, triage models.

Everything here depends on a version of a document alone, so it may be thrown away at any time, and any number of workers may have it.
"""

from __future__ import annotations

import dataclasses
import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, TypeVar

import cachetools
import numpy as np
import structlog

from sondar.circuit_files import load_circuit_text, load_vehicle_text, variants_in
from sondar.core.circuit.document.fields import CircuitDocument
from sondar.core.circuit.network import Circuit
from sondar.core.circuit.vehicle import VehicleNetwork
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.predictions import TEMPERATURE_SD, Predictor
from sondar.core.diagnosis.ranking import candidate_setups
from sondar.core.diagnosis.variants import Way
from sondar.core.errors import CircuitDocumentError
from sondar.core.instruments import ORDINARY
from sondar.core.instruments.base import Test
from sondar.core.triage.model import TriageModel
from sondar.store.circuits import CircuitVersion
from sondar.store.vehicles import VehicleModel

T = TypeVar("T")
log = structlog.get_logger()

MOST_BYTES = 768 * 1024 * 1024
"""Of arrays that predictors and triage models keep in one worker."""


def bytes_of(thing: Any, seen: set[int] | None = None) -> int:
    """Bytes of all arrays that can be reached from a thing through its fields, counted once."""
    seen = set() if seen is None else seen
    if id(thing) in seen or isinstance(thing, str | bytes | int | float | type(None)):
        return 0
    seen.add(id(thing))
    if isinstance(thing, np.ndarray):
        return int(thing.nbytes) if thing.base is None else bytes_of(thing.base, seen)
    if isinstance(thing, cachetools.Cache):  # past its own look-up, which would count as a use
        return sum(bytes_of(cachetools.Cache.__getitem__(thing, key), seen) for key in list(thing) if key in thing)
    if isinstance(thing, Mapping):
        return sum(bytes_of(value, seen) for value in list(thing.values()))
    if isinstance(thing, tuple | list | set | frozenset):
        return sum(bytes_of(value, seen) for value in list(thing))
    if dataclasses.is_dataclass(thing) and not isinstance(thing, type):
        return sum(bytes_of(getattr(thing, f.name, None), seen) for f in dataclasses.fields(thing))
    if isinstance(thing, Predictor | TriageModel):
        return bytes_of(vars(thing), seen)
    return 0


@dataclass
class Cache:
    """The least recently used things go first; two threads that make the same thing at once both get the first.

    Args:
        most: things kept.
        most_bytes: of their arrays, as of the last ``shrink``: things grow while they are used. 0 for no bound.
    """

    most: int
    most_bytes: int = 0
    _kept: OrderedDict[Hashable, Any] = field(default_factory=OrderedDict)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def get(self, key: Hashable, make: Callable[[], T]) -> T:
        """The kept thing, or a new one."""
        with self._lock:
            if key in self._kept:
                self._kept.move_to_end(key)
                found: T = self._kept[key]
                return found
        made = make()
        with self._lock:
            kept: T = self._kept.setdefault(key, made)
            while len(self._kept) > self.most:
                self._kept.popitem(last=False)
            return kept

    def shrink(self) -> int:
        """Let go of what was not used for longest until the arrays of the rest fit; bytes that are left."""
        with self._lock:
            things = list(self._kept.items())
        left, full = 0, False
        for position, (key, thing) in enumerate(reversed(things)):
            size = bytes_of(thing)
            full = full or (position > 0 and left + size > self.most_bytes)
            if full:
                with self._lock:
                    self._kept.pop(key, None)
            else:
                left += size
        return left


@dataclass
class Computed:
    """Computed once per version of a document.

    Attributes:
        later: does something under a name when nobody waits; nothing is done ahead where it is left out.
    """

    later: Callable[[Hashable, Callable[[], None]], None] = lambda _name, _work: None
    _circuits: Cache = field(default_factory=lambda: Cache(200))
    _predictors: Cache = field(default_factory=lambda: Cache(40, MOST_BYTES))
    _ways: Cache = field(default_factory=lambda: Cache(200))
    _triage: Cache = field(default_factory=lambda: Cache(12))

    def circuit(self, version: CircuitVersion) -> Circuit:
        """The parsed circuit of a version."""
        return self._circuits.get(version.id, lambda: Circuit(load_circuit_text(version.source_text)))

    def predictor(
        self, version: CircuitVersion, temperature_c: float, tools: Iterable[str] = ORDINARY, temperature_sd: float = TEMPERATURE_SD
    ) -> Predictor:
        """Predictor of a circuit version at a temperature known to a standard deviation, for the tools at hand."""
        chosen = tuple(sorted(tools))
        key = (version.id, temperature_c, chosen, temperature_sd)
        return self._predictors.get(
            key, lambda: Predictor(self.circuit(version), temperature_c, chosen, temperature_sd=temperature_sd)
        )

    def ways(
        self, version: CircuitVersion, temperature_c: float, tools: Iterable[str] = ORDINARY, temperature_sd: float = TEMPERATURE_SD
    ) -> tuple[Way, ...]:
        """Other ways in which a circuit version may be built, each with its predictor."""
        if not self.circuit(version).document.variants:
            return ()
        chosen = tuple(sorted(tools))
        documents = self._ways.get(version.id, lambda: variants_in(version.source_text))

        def made(name: str, document: CircuitDocument) -> Predictor:
            key = (version.id, name, temperature_c, chosen, temperature_sd)
            return self._predictors.get(
                key, lambda: Predictor(Circuit(document), temperature_c, chosen, temperature_sd=temperature_sd)
            )

        return tuple(Way(name, one.title, one.share, made(name, document)) for name, (one, document) in documents.items())

    def triage_model(self, model: VehicleModel | None, versions: Mapping[str, CircuitVersion]) -> TriageModel | None:
        """Triage model of a vehicle model with these circuits (by slug); None if there is none or one of its circuits is missing."""
        if model is None:
            return None
        document = load_vehicle_text(model.source_text)
        if not set(document.circuits) <= set(versions):
            return None
        own = {slug: versions[slug] for slug in document.circuits}
        key = (model.id, tuple(sorted(version.id for version in own.values())))
        changed = sorted((slug for slug, version in own.items() if not version.example), key=lambda slug: own[slug].created_at)
        newer = [*(slug for slug in own if own[slug].example), *changed]
        try:
            return self._triage.get(
                key,
                lambda: TriageModel(VehicleNetwork(document, {slug: self.circuit(v).document for slug, v in own.items()}, newer)),
            )
        except CircuitDocumentError as error:  # each circuit can still be measured by itself
            log.warning("circuits_do_not_join", vehicle=document.id, problem=str(error))
            return None

    def shrink(self) -> None:
        """Bring what is kept back to its size; called when a piece of work is done."""
        self._predictors.shrink()

    def prepare(self, predictor: Predictor, situations: Iterable[Situation], tests: Sequence[Test] = ()) -> None:
        """Work out what the next steps will need, so that Enter finds it ready: first the tests that are proposed, then the set-ups after.

        A newer call for the same predictor takes the place of an older one: what was likely before the last reading is not any more.
        """
        ahead = tuple(situations)

        def work() -> None:
            for test in tests:
                for kelvin, _ in predictor.temperature_cells:
                    predictor.forecast(test, kelvin)
            for situation in ahead:
                for setup in candidate_setups(predictor, situation):
                    predictor.setup(setup)

        self.later(id(predictor), work)


def by_slug(versions: Iterable[CircuitVersion]) -> dict[str, CircuitVersion]:
    """Versions by their circuit's slug."""
    return {version.slug: version for version in versions}
