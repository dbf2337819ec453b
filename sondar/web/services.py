"""What the views share: the database pool, the meter's address, and predictors kept per circuit version."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, field
from uuid import UUID

from flask import current_app
from psycopg_pool import ConnectionPool

from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.plan import Bench, candidate_setups
from sondar.core.diagnosis.predictions import Predictor
from sondar.documents import load_circuit_text
from sondar.store.circuits import circuit_version, newest_circuits
from sondar.store.database import Db
from sondar.web.problems import ProblemError

KEPT_PREDICTORS = 24


@dataclass
class Services:
    """Held by the application; predictors are a cache that may be dropped at any time."""

    pool: ConnectionPool[Db]
    meter_address: str = ""
    _predictors: OrderedDict[tuple[UUID, float], Predictor] = field(default_factory=OrderedDict)
    _lock: threading.Lock = field(default_factory=threading.Lock)
    _ahead: ThreadPoolExecutor = field(default_factory=lambda: ThreadPoolExecutor(1, "prepare"))

    @contextmanager
    def transaction(self) -> Iterator[Db]:
        """A connection in a transaction: committed at the end, rolled back on any error."""
        with self.pool.connection() as db:
            yield db

    def predictor(self, version_id: UUID, temperature_c: float) -> Predictor:
        """Predictor of a circuit version at a temperature.

        Raises:
            ProblemError: 404, no such version.
        """
        key = (version_id, temperature_c)
        with self._lock:
            if key in self._predictors:
                self._predictors.move_to_end(key)
                return self._predictors[key]
        with self.transaction() as db:
            version = circuit_version(db, version_id)
        if version is None:
            raise ProblemError(404, "No such circuit", f"no circuit version {version_id}")
        made = Predictor(Circuit(load_circuit_text(version.source_text)), temperature_c)
        with self._lock:
            made = self._predictors.setdefault(key, made)
            while len(self._predictors) > KEPT_PREDICTORS:
                self._predictors.popitem(last=False)
        return made

    def prepare(self, predictor: Predictor, benches: Iterable[Bench]) -> None:
        """Work out in the background what the next steps will need, so that Enter finds it ready."""
        for bench in benches:
            self._ahead.submit(_prepare, predictor, bench)

    def prepare_library(self) -> None:
        """The same for the first step on every stored circuit, when the application starts."""
        self._ahead.submit(self._prepare_library)

    def _prepare_library(self) -> None:
        with self.transaction() as db:
            found = newest_circuits(db)
        for version in found:
            predictor = self.predictor(version.id, 20.0)
            _prepare(predictor, Bench(predictor.circuit.rest_setup(20.0)))

    def close(self) -> None:
        """Let go of the pool and of work not yet begun."""
        self._ahead.shutdown(wait=True, cancel_futures=True)
        self.pool.close()


def _prepare(predictor: Predictor, bench: Bench) -> None:
    for setup in candidate_setups(predictor, bench):
        predictor.setup(setup)


def services() -> Services:
    """The application's services."""
    found: Services = current_app.extensions["sondar"]
    return found
