"""What every action is given: the database as one workshop sees it, what is computed from circuits, and the devices that are connected."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Concatenate, ParamSpec, TypeVar
from uuid import UUID

from psycopg_pool import ConnectionPool

from sondar.app.computed import Computed
from sondar.computing.asking import Computing
from sondar.core.errors import NotFoundError
from sondar.store import circuits as circuit_store
from sondar.store import jobs as job_store
from sondar.store.circuits import CircuitVersion
from sondar.store.database import Db, act_for, borrowed, none_is_held

P = ParamSpec("P")
T = TypeVar("T")


@dataclass(frozen=True)
class Devices:
    """Addresses of what is connected, empty for none.

    Attributes:
        meter: VISA address of the bench meter.
        vehicles: simulated vehicle -> ``host:port`` of its interface; ``""`` is the one used for every other job.
    """

    meter: str = ""
    vehicles: Mapping[str, str] = field(default_factory=dict)

    def vehicle(self, simulated_vehicle: str) -> str:
        """``host:port`` of the vehicle interface for a job."""
        return self.vehicles.get(simulated_vehicle) or self.vehicles.get("", "")


@dataclass(frozen=True)
class Workspace:
    """One workshop, as one person works in it.

    Attributes:
        later: does something small when the answer is on its way. meanwhile: does something that takes long beside everything else.
    """

    pool: ConnectionPool[Db]
    computing: Computing
    devices: Devices
    workshop_id: UUID | None
    account_id: UUID | None
    later: Callable[[Callable[[], None]], None]
    meanwhile: Callable[[Callable[[], None]], None]

    @contextmanager
    def transaction(self) -> Iterator[Db]:
        """A connection in a transaction that sees this workshop: committed at the end, rolled back on any error.

        One request holds one connection at a time, and none while it is computed for: twenty requests that each wait for a second one
        would wait for one another.

        Raises:
            RuntimeError: this request holds one already.
        """
        with borrowed(self.pool) as db:
            act_for(db, self.workshop_id, self.account_id)
            yield db

    def compute(self, about: object, function: Callable[Concatenate[Computed, P], T], *args: P.args, **kwargs: P.kwargs) -> T:
        """``function(computed, …)`` by a worker, with no connection held; see ``Computing.run``.

        Raises:
            RuntimeError: a connection is held.
        """
        none_is_held()
        return self.computing.run(about, function, *args, **kwargs)

    def ahead(self, about: object, function: Callable[Concatenate[Computed, P], None], *args: P.args, **kwargs: P.kwargs) -> None:
        """Have ``function(computed, …)`` done by a worker when nobody waits for anything."""
        self.computing.later(about, function, *args, **kwargs)


def known_job(db: Db, job_id: UUID) -> job_store.Job:
    """A job of this workshop.

    Raises:
        NotFoundError: there is none.
    """
    found = job_store.job_by_id(db, job_id)
    if found is None:
        raise NotFoundError("No such job", f"no job {job_id}")
    return found


def known_diagnosis(db: Db, diagnosis_id: UUID) -> tuple[job_store.Job, job_store.CircuitDiagnosis]:
    """A circuit diagnosis of this workshop with its job.

    Raises:
        NotFoundError: there is none.
    """
    diagnosis = job_store.diagnosis_by_id(db, diagnosis_id)
    if diagnosis is None:
        raise NotFoundError("No such diagnosis", f"no circuit diagnosis {diagnosis_id}")
    return known_job(db, diagnosis.job_id), diagnosis


def known_version(db: Db, version_id: UUID) -> CircuitVersion:
    """A version of a circuit.

    Raises:
        NotFoundError: there is none.
    """
    found = circuit_store.circuit_version(db, version_id)
    if found is None:
        raise NotFoundError("No such circuit", f"no circuit version {version_id}")
    return found
