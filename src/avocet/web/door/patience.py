"""Who asks again at once waits a little, so that whoever looks in now and then need not.

Threads of one interpreter take turns: each that is at work lets every other wait some milliseconds, again and again. Sixteen
programs that ask without a pause would make a page wait for all of them.
"""

import asyncio
import time
from collections import OrderedDict, deque
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from typing import Any

PAUSE = 0.02
"""Seconds: whoever asks sooner after an answer does so as a program does."""

AT_ONCE, IN_A_CROWD = 2, 1
"""Such requests that are worked on at once, of those that read and of those that change something. In a crowd none is begun
while somebody else is being answered."""

CROWD = 6
"""A browser has no more connections to one server: where more requests wait, programs are among them."""

LONGEST_TURN = 0.25
"""Seconds after which the next ones begin beside a request that takes longer: figures of all labels hold nobody up."""

REMEMBERED = 1_000
"""Connections of which the latest answer is known."""


class Patience:
    """Lets requests of restless connections be worked on a few at a time, all others at once."""

    def __init__(self) -> None:
        self._reading, self._changing = _Room(self._most), _Room(self._most)
        self._guests = _Guests(self._reading.let_in, self._changing.let_in)
        self._answered: OrderedDict[Any, float] = OrderedDict()

    def _most(self, begun: float) -> int:
        """How many may be worked on in a room in which the last one has begun at a moment."""
        if len(self._reading.waiting) + len(self._changing.waiting) <= CROWD:
            return AT_ONCE
        # Guests who come without end hold nobody up for ever.
        waits = self._guests.inside and time.monotonic() - begun < LONGEST_TURN
        return 0 if waits else IN_A_CROWD

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
        room: _Room | _Guests | None = self._guests
        if restless:
            room = self._reading if scope["method"] in ("GET", "HEAD") else self._changing

        def done() -> None:
            nonlocal room
            if room is not None:
                room.leave()
                room = None

        assert room is not None
        await room.enter()
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


class _Guests:
    """Those who pause: they pass at once, and the crowd goes on when the last of them is answered."""

    def __init__(self, *let_in: Callable[[], None]) -> None:
        self._let_in, self.inside = let_in, 0

    async def enter(self) -> None:
        self.inside += 1

    def leave(self) -> None:
        self.inside -= 1
        for each in self._let_in:
            each()


class _Room:
    """A semaphore whose number of places is asked for each time, and that lets in by who came first."""

    def __init__(self, most: Callable[[float], int]) -> None:
        self._most, self._inside, self._begun = most, 0, time.monotonic()
        self.waiting: deque[asyncio.Future[None]] = deque()

    async def enter(self) -> None:
        place = asyncio.get_running_loop().create_future()
        self.waiting.append(place)
        self.let_in()
        try:
            await place
        except asyncio.CancelledError:
            if not place.cancelled():
                self.leave()
            elif place in self.waiting:
                self.waiting.remove(place)
            raise

    def leave(self) -> None:
        self._inside -= 1
        self.let_in()

    def let_in(self) -> None:
        """Let in as many as may be; whoever gave up meanwhile takes no place."""
        while self.waiting and self._inside < self._most(self._begun):
            place = self.waiting.popleft()
            if not place.done():
                place.set_result(None)
                self._inside, self._begun = self._inside + 1, time.monotonic()
