"""What one application process holds: the database pool, what is computed from circuits and devices."""

from __future__ import annotations

from dataclasses import dataclass

from psycopg_pool import ConnectionPool

from sondar.app.computed import Computed, by_slug
from sondar.app.workspace import Devices, Workspace
from sondar.store.circuits import newest_circuits
from sondar.store.database import Db
from sondar.store.vehicles import newest_models


@dataclass(frozen=True)
class Services:
    """Held by the application for as long as it runs."""

    pool: ConnectionPool[Db]
    computed: Computed
    devices: Devices

    def prepare_triage(self) -> None:
        """Work out what every fault of the library's vehicles would set, when the application starts."""
        self.computed.later(self._prepare_triage)

    def _prepare_triage(self) -> None:
        nobody = Workspace(self.pool, self.computed, self.devices, None, None)
        with nobody.transaction() as db:
            listed, versions = newest_models(db), by_slug(newest_circuits(db))
        for model in listed:
            found = self.computed.triage_model(model, versions)
            if found is not None:
                found.prepare()

    def close(self) -> None:
        """Let go of work not yet begun and of the pool."""
        self.computed.close()
        self.pool.close()
