"""Who asks again at once waits a little, so that whoever looks in now and then need not.

Threads of one interpreter take turns: each that is at work lets every other wait some milliseconds, again and again. Sixteen
programs that ask without a pause would make a page wait for all of them.
"""

import asyncio
import time
from collections import OrderedDict
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from typing import Any

PAUSE = 0.02
"""Seconds: whoever asks sooner after an answer does so as a program does."""

AT_ONCE = 2
"""Such requests that are worked on at once, of those that read and of those that change something."""

LONGEST_TURN = 0.25
"""Seconds after which the next ones begin beside a request that takes longer: figures of all labels hold nobody up."""

REMEMBERED = 1_000
"""Connections of which the latest answer is known."""


class Patience:
    """Lets requests of restless connections be worked on a few at a time, all others at once."""

    def __init__(self) -> None:
        self._reading, self._changing = asyncio.Semaphore(AT_ONCE), asyncio.Semaphore(AT_ONCE)
        self._answered: OrderedDict[Any, float] = OrderedDict()

    @asynccontextmanager
    async def turn(self, scope: dict[str, Any], send: Any) -> AsyncIterator[Any]:
        """Wait for a turn, which ends when the answer begins: how long somebody reads it is nobody's loss.

        Yields
        ------
        callable
            To send the answer with.
        """
        client = scope.get("client")
        client = tuple(client) if client else None
        restless = client is not None and time.monotonic() - self._answered.get(client, -PAUSE) < PAUSE
        room = (self._reading if scope["method"] in ("GET", "HEAD") else self._changing) if restless else None

        def done() -> None:
            nonlocal room
            if room is not None:
                room.release()
                room = None

        if room is not None:
            await room.acquire()
            asyncio.get_running_loop().call_later(LONGEST_TURN, done)

        async def told(message: dict[str, Any]) -> None:
            if message["type"] == "http.response.start":
                done()
            await send(message)

        try:
            yield told
        finally:
            done()
            if client is not None:
                self._answered[client] = time.monotonic()
                self._answered.move_to_end(client)
                while len(self._answered) > REMEMBERED:
                    self._answered.popitem(last=False)
