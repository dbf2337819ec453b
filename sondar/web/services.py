"""What the views share: the database pool, the meter's address, and predictors kept per circuit version."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from uuid import UUID

from flask import current_app
from psycopg_pool import ConnectionPool

from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.predictions import Predictor
from sondar.documents import load_circuit_text
from sondar.store.circuits import circuit_version
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


def services() -> Services:
    """The application's services."""
    found: Services = current_app.extensions["sondar"]
    return found
