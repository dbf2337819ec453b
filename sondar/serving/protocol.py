"""HTTP/1.1 with a time limit for a request's head: whoever sends half of one is cut off, and costs a socket until then."""

from __future__ import annotations

import asyncio

from uvicorn.protocols.http.h11_impl import H11Protocol

HEAD_S = 10.0


class LimitedProtocol(H11Protocol):
    """Uvicorn's own protocol with that limit."""

    _limit: asyncio.TimerHandle | None = None

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        """Begin to wait for the first head."""
        super().connection_made(transport)
        self._wait_for_head()

    def data_received(self, data: bytes) -> None:
        """A head, a body, or the beginning of the next head."""
        if self._limit is None and (self.cycle is None or self.cycle.response_complete):
            self._wait_for_head()
        super().data_received(data)

    def handle_events(self) -> None:
        """A head that is complete needs no limit any more."""
        before = self.cycle
        super().handle_events()
        if self.cycle is not before and self._limit is not None:
            self._limit.cancel()
            self._limit = None

    def connection_lost(self, exc: Exception | None) -> None:
        """Nothing is waited for any more."""
        if self._limit is not None:
            self._limit.cancel()
        super().connection_lost(exc)

    def _wait_for_head(self) -> None:
        self._limit = self.loop.call_later(HEAD_S, self._too_slow)

    def _too_slow(self) -> None:
        self._limit = None
        if not self.transport.is_closing():
            self.transport.abort()
