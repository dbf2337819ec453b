"""What is computed from circuit documents and kept: parsed circuits, predictors, triage models, and work done ahead.

Everything here depends on a version of a document alone, so it may be thrown away at any time and shared by everyone.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Hashable, Iterable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Any, TypeVar
from weakref import WeakKeyDictionary

import structlog
from cachetools import LRUCache

from sondar.circuit_files import load_circuit_text, load_vehicle_text
from sondar.core.circuit.network import Circuit
from sondar.core.circuit.vehicle import VehicleNetwork
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.predictions import TEMPERATURE_SD, Predictor
from sondar.core.diagnosis.ranking import candidate_setups
from sondar.core.instruments import ORDINARY
from sondar.core.instruments.base import Test
from sondar.core.triage.model import TriageModel
from sondar.store.circuits import CircuitVersion
from sondar.store.vehicles import VehicleModel

log = structlog.get_logger()
T = TypeVar("T")


@dataclass
class Cache:
    """The least recently used things go first; two threads that make the same thing at once both get the first."""

    most: int
    _kept: LRUCache[Hashable, Any] = field(init=False)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def __post_init__(self) -> None:
        self._kept = LRUCache(self.most)

    def get(self, key: Hashable, make: Callable[[], T]) -> T:
        """The kept thing, or a new one."""
        with self._lock:
            if key in self._kept:
                found: T = self._kept[key]
                return found
        made = make()
        with self._lock:
            kept: T = self._kept.setdefault(key, made)
            return kept


@dataclass
class Computed:
    """Computed once per version of a document."""

    _circuits: Cache = field(default_factory=lambda: Cache(200))
    _predictors: Cache = field(default_factory=lambda: Cache(40))
    _triage: Cache = field(default_factory=lambda: Cache(12))
    _turns: WeakKeyDictionary[Predictor, int] = field(default_factory=WeakKeyDictionary)
    _ahead: ThreadPoolExecutor = field(default_factory=lambda: ThreadPoolExecutor(1, "ahead"))

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

    def triage_model(self, model: VehicleModel, versions: Mapping[str, CircuitVersion]) -> TriageModel | None:
        """Triage model of a vehicle model with these circuits (by slug); None if one of its circuits is missing."""
        document = load_vehicle_text(model.source_text)
        if not set(document.circuits) <= set(versions):
            return None
        own = {slug: versions[slug] for slug in document.circuits}
        key = (model.id, tuple(sorted(version.id for version in own.values())))
        return self._triage.get(
            key, lambda: TriageModel(VehicleNetwork(document, {slug: self.circuit(v).document for slug, v in own.items()}))
        )

    # -- work done ahead ----------------------------------------------------------------------------

    def later(self, work: Callable[[], None]) -> None:
        """Do something when nothing else waits; what goes wrong is logged, and never anybody's answer."""

        def guarded() -> None:
            try:
                work()
            except Exception as error:
                log.warning("work_ahead_failed", error=str(error))

        self._ahead.submit(guarded)

    def prepare(self, predictor: Predictor, situations: Iterable[Situation], tests: Iterable[Test] = ()) -> None:
        """Work out what the next steps will need, so that Enter finds it ready: first the tests that are proposed, then the set-ups after.

        A newer call for the same predictor takes the place of an older one: what was likely before the last reading is not any more.
        """
        turn = self._turns[predictor] = self._turns.get(predictor, 0) + 1
        self.later(lambda: _foresee(predictor, tuple(tests), lambda: self._turns.get(predictor) == turn))
        for situation in situations:
            self.later(lambda at=situation: _prepare(predictor, at, lambda: self._turns.get(predictor) == turn))  # type: ignore[misc]

    def pause(self, predictor: Predictor) -> None:
        """Somebody waits for this predictor: what is worked out ahead ends with the set-up it is at; the answer asks for more anew."""
        self._turns[predictor] = self._turns.get(predictor, 0) + 1

    def prepare_first(self, version: CircuitVersion, temperature_c: float, tools: Iterable[str], temperature_sd: float) -> None:
        """Work out the first step on a circuit that is likely to be opened next, with the tools of this workshop."""
        predictor = self.predictor(version, temperature_c, tools, temperature_sd)
        self.later(lambda: _prepare(predictor, Situation(predictor.circuit.rest_setup(temperature_c))))

    def close(self) -> None:
        """Let go of work not yet begun; what has begun is nobody's answer and is not waited for."""
        self._ahead.shutdown(wait=False, cancel_futures=True)


def _foresee(predictor: Predictor, tests: Sequence[Test], still_wanted: Callable[[], bool]) -> None:
    for test in tests:
        for kelvin, _ in predictor.temperature_cells:
            if not still_wanted():
                return
            predictor.forecast(test, kelvin)


def _prepare(predictor: Predictor, situation: Situation, still_wanted: Callable[[], bool] = lambda: True) -> None:
    for setup in candidate_setups(predictor, situation):
        if not still_wanted():
            return
        predictor.setup(setup)


def by_slug(versions: Iterable[CircuitVersion]) -> dict[str, CircuitVersion]:
    """Versions by their circuit's slug."""
    return {version.slug: version for version in versions}
