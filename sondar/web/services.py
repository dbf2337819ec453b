"""What the views share: the database pool, devices, predictors and triage models kept per version, and the jobs' event stream."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any, TypeVar
from uuid import UUID
from weakref import WeakKeyDictionary

from flask import current_app
from psycopg_pool import ConnectionPool

from sondar.circuit_files import load_circuit_text, load_vehicle_text
from sondar.core.circuit.network import Circuit
from sondar.core.circuit.vehicle import VehicleNetwork
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.ranking import Situation, candidate_setups
from sondar.core.instruments import ORDINARY
from sondar.core.triage.model import TriageModel
from sondar.store.circuits import CircuitVersion, circuit_version, newest_circuits
from sondar.store.database import Db, enter
from sondar.store.vehicles import model_by_id, newest_models
from sondar.web import auth
from sondar.web.events import Events
from sondar.web.problems import ProblemError

T = TypeVar("T")


@dataclass
class Kept:
    """A bounded cache of things computed from documents; may be emptied at any time."""

    most: int
    _items: OrderedDict[Hashable, Any] = field(default_factory=OrderedDict)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def get(self, key: Hashable, make: Callable[[], T]) -> T:
        """The kept thing, or a new one; two threads that make it at once both get the first."""
        with self._lock:
            if key in self._items:
                self._items.move_to_end(key)
                found: T = self._items[key]
                return found
        made = make()
        with self._lock:
            kept: T = self._items.setdefault(key, made)
            while len(self._items) > self.most:
                self._items.popitem(last=False)
        return kept


@dataclass
class Services:
    """Held by the application.

    Attributes:
        meter_address: VISA address of the bench meter, empty for none.
        vehicles: simulator name -> ``host:port`` of a vehicle interface; ``""`` is the one used for every other job.
    """

    pool: ConnectionPool[Db]
    events: Events
    meter_address: str = ""
    vehicles: Mapping[str, str] = field(default_factory=dict)
    _circuits: Kept = field(default_factory=lambda: Kept(200))
    _predictors: Kept = field(default_factory=lambda: Kept(40))
    _triage: Kept = field(default_factory=lambda: Kept(12))
    _turns: WeakKeyDictionary[Predictor, int] = field(default_factory=WeakKeyDictionary)
    _ahead: ThreadPoolExecutor = field(default_factory=lambda: ThreadPoolExecutor(1, "prepare"))

    @contextmanager
    def transaction(self) -> Iterator[Db]:
        """A connection in a transaction that sees the signed-in person's workshop: committed at the end, rolled back on any error."""
        person = auth.current()
        with self.pool.connection() as db:
            enter(db, person.workshop_id if person else None, person.account_id if person else None)
            yield db

    def vehicle_address(self, simulated_vehicle: str) -> str:
        """``host:port`` of the vehicle interface for a job, empty for none."""
        return self.vehicles.get(simulated_vehicle) or self.vehicles.get("", "")

    def circuit(self, version: CircuitVersion) -> Circuit:
        """The parsed circuit of a version."""
        return self._circuits.get(version.id, lambda: Circuit(load_circuit_text(version.source_text)))

    def predictor(self, version_id: UUID, temperature_c: float, tools: Iterable[str] = ORDINARY) -> Predictor:
        """Predictor of a circuit version at a temperature, for the tools at hand.

        Raises:
            ProblemError: 404, no such version.
        """

        chosen = tuple(sorted(tools))

        def make() -> Predictor:
            with self.transaction() as db:
                version = circuit_version(db, version_id)
            if version is None:
                raise ProblemError(404, "No such circuit", f"no circuit version {version_id}")
            return Predictor(self.circuit(version), temperature_c, chosen)

        return self._predictors.get((version_id, temperature_c, chosen), make)

    def triage_model(self, db: Db, model_id: UUID) -> TriageModel | None:
        """Triage model of a vehicle model with the circuits that this workshop has now; None if one of them is missing."""
        found = model_by_id(db, model_id)
        if found is None:
            return None
        document = load_vehicle_text(found.source_text)
        versions = {v.slug: v for v in newest_circuits(db) if v.slug in document.circuits}
        if set(versions) != set(document.circuits):
            return None
        key = (model_id, tuple(sorted(v.id for v in versions.values())))

        def make() -> TriageModel:
            return TriageModel(VehicleNetwork(document, {slug: self.circuit(v).document for slug, v in versions.items()}))

        return self._triage.get(key, make)

    def prepare(self, predictor: Predictor, benches: Iterable[Situation]) -> None:
        """Work out in the background what the next steps will need, so that Enter finds it ready.

        A newer call for the same predictor takes the place of an older one: what was likely before the last reading is not any more.
        """
        turn = self._turns[predictor] = self._turns.get(predictor, 0) + 1
        for bench in benches:
            self._ahead.submit(_prepare, predictor, bench, lambda: self._turns.get(predictor) == turn)

    def prepare_first(self, version_id: UUID, temperature_c: float, tools: Iterable[str]) -> None:
        """Work out the first step on a circuit whose bench is likely to be opened next, with the tools of this workshop."""
        predictor = self.predictor(version_id, temperature_c, tools)
        self._ahead.submit(lambda: _prepare(predictor, Situation(predictor.circuit.rest_setup(temperature_c))))

    def prepare_triage(self) -> None:
        """Work out what every fault of the library's vehicles would set, when the application starts."""
        self._ahead.submit(self._prepare_triage)

    def _prepare_triage(self) -> None:
        with self.transaction() as db:
            models = [self.triage_model(db, model.id) for model in newest_models(db)]
        for model in models:
            if model is not None:
                model.prepare()

    def close(self) -> None:
        """Let go of the pool, the event stream and work not yet begun."""
        self._ahead.shutdown(wait=True, cancel_futures=True)
        self.events.close()
        self.pool.close()


def _prepare(predictor: Predictor, bench: Situation, still_wanted: Callable[[], bool] = lambda: True) -> None:
    for setup in candidate_setups(predictor, bench):
        if not still_wanted():
            return
        predictor.setup(setup)


def services() -> Services:
    """The application's services."""
    found: Services = current_app.extensions["sondar"]
    return found
