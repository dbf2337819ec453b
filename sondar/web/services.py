"""What one application process holds: the database pool, those who compute for it, and devices."""

from __future__ import annotations

import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import date
from uuid import UUID

import structlog
from psycopg_pool import ConnectionPool

from sondar.app.codes import prepare_model
from sondar.app.computed import by_slug
from sondar.app.workspace import Devices, Workspace
from sondar.circuit_files import circuits_in_vehicle
from sondar.computing.asking import Computing
from sondar.store import jobs as job_store
from sondar.store import keeping, people
from sondar.store.circuits import newest_circuits
from sondar.store.database import Db, none_is_held
from sondar.store.vehicles import newest_models

SEARCHES_AT_ONCE = 10
"""Jobs whose searched text is put together in one transaction; it holds their rows for that long."""

LONG_AT_ONCE = 8
"""Files read and vehicles recorded at once by one web process."""

log = structlog.get_logger()


def _guarded(work: Callable[[], None]) -> None:
    try:
        work()
    except Exception as error:
        log.warning("work_after_failed", error=str(error))


@dataclass(frozen=True)
class Services:
    """Held by the application for as long as it runs."""

    pool: ConnectionPool[Db]
    computing: Computing
    devices: Devices
    _refreshing: threading.Event = field(default_factory=threading.Event)
    _erased_on: dict[str, str] = field(default_factory=dict)
    _after: ThreadPoolExecutor = field(default_factory=lambda: ThreadPoolExecutor(1, "after"))
    _meanwhile: ThreadPoolExecutor = field(default_factory=lambda: ThreadPoolExecutor(LONG_AT_ONCE, "meanwhile"))

    def workspace(self, workshop_id: UUID | None, account_id: UUID | None) -> Workspace:
        """A workshop as one person works in it; nobody's if there is none."""
        return Workspace(self.pool, self.computing, self.devices, workshop_id, account_id, self.later, self.meanwhile)

    def later(self, work: Callable[[], None]) -> None:
        """Store something when the answer is on its way; what goes wrong is logged, and never anybody's answer."""

        self._after.submit(_guarded, work)

    def meanwhile(self, work: Callable[[], None]) -> None:
        """Do something that takes long (reading a file, recording from a vehicle) beside everything else.

        Raises:
            RuntimeError: this request holds a connection: what it is writing would not be there yet for the work to see.
        """
        none_is_held()
        self._meanwhile.submit(_guarded, work)

    def refresh_search(self) -> None:
        """Put together what is searched for, after something was written; once for many writings."""
        if not self._refreshing.is_set():
            self._refreshing.set()
            self.later(self._refresh_search)

    def _refresh_search(self) -> None:
        self._refreshing.clear()
        with self.workspace(None, None).transaction() as db:
            due = job_store.workshops_with_search_due(db)
        for workshop_id in due:
            inside, found = self.workspace(workshop_id, None), SEARCHES_AT_ONCE
            while found == SEARCHES_AT_ONCE:
                with inside.transaction() as db:
                    found = job_store.refresh_search(db, SEARCHES_AT_ONCE)

    def erase_what_is_due(self) -> None:
        """Erase personal data that has been kept for as long as its workshop keeps any; once a day, when something is written."""
        if self._erased_on.get("day") != (today := date.today().isoformat()):
            self._erased_on["day"] = today
            self.later(self._erase_what_is_due)

    def _erase_what_is_due(self) -> None:
        with self.workspace(None, None).transaction() as db:
            found = keeping.workshops_that_erase(db)
        for workshop_id in found:
            with self.workspace(workshop_id, None).transaction() as db:
                for vehicle_id in keeping.vehicles_due(db):
                    count = keeping.erase_personal(db, vehicle_id, words=True)
                    people.record(db, "personal data erased", f"kept long enough, {count} jobs of a vehicle")

    def prepare_triage(self) -> None:
        """Have it worked out what every fault of the library's vehicles would set, when the application starts."""
        self.later(self._prepare_triage)

    def _prepare_triage(self) -> None:
        nobody = self.workspace(None, None)
        with nobody.transaction() as db:
            listed, versions = newest_models(db), by_slug(newest_circuits(db))
        for model in listed:
            own = {slug: versions[slug] for slug in circuits_in_vehicle(model.source_text) if slug in versions}
            nobody.ahead(model.id, prepare_model, model, own)

    def close(self) -> None:
        """Let go of what is not yet begun and of the pool."""
        self._after.shutdown(wait=False, cancel_futures=True)
        self.pool.close()
