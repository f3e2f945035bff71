"""How many requests a service gets at a time, and per second."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from weakref import WeakKeyDictionary


class RequestLimits:
    """Limits of one service, in one event loop. `per_second`: None is as fast as possible."""

    def __init__(self, at_once: int, per_second: int | None) -> None:
        self._bound = asyncio.Semaphore(at_once)
        self._pause = 1 / per_second if per_second else 0.0
        self._next = 0.0

    @asynccontextmanager
    async def turn(self) -> AsyncIterator[None]:
        """Wait until another request may be sent."""
        async with self._bound:
            if self._pause:
                loop = asyncio.get_running_loop()
                start = max(loop.time(), self._next)
                self._next = start + self._pause
                await asyncio.sleep(start - loop.time())
            yield


_OF_SERVICES: WeakKeyDictionary[asyncio.AbstractEventLoop, dict[tuple[str, str], RequestLimits]] = WeakKeyDictionary()


def limits_of(platform: str, address: str, at_once: int, per_second: int | None) -> RequestLimits:
    """Return the limits of the service at an address, which all destinations that lead there share."""
    services = _OF_SERVICES.setdefault(asyncio.get_running_loop(), {})
    return services.setdefault((platform, address), RequestLimits(at_once, per_second))
