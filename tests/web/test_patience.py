"""Who asks again at once waits for a turn; whoever looks in now and then does not."""

import asyncio

import pytest

from avocet.web.door import patience
from avocet.web.door.patience import AT_ONCE, CROWD, LONGEST_TURN, REMEMBERED, Patience

START = {"type": "http.response.start", "status": 200, "headers": []}


def scope(client, method="GET"):
    return {"type": "http", "method": method, "client": ["127.0.0.1", client]}


class Clock:
    """Stands still until it is put on."""

    def __init__(self):
        self.now = 100.0

    def monotonic(self):
        return self.now


@pytest.fixture
def clock(monkeypatch):
    made = Clock()
    monkeypatch.setattr(patience, "time", made)
    return made


async def silent(message):
    """Sends nothing."""


async def answered(door, client, method="GET"):
    """A request that is answered at once."""
    async with door.turn(scope(client, method), silent) as send:
        await send(START)


class Held:
    """A request that is worked on until it is let go."""

    def __init__(self, door, client, method="GET"):
        self.working, self.let_go = asyncio.Event(), asyncio.Event()
        self.task = asyncio.create_task(self._run(door, client, method))

    async def _run(self, door, client, method):
        async with door.turn(scope(client, method), silent):
            self.working.set()
            await self.let_go.wait()

    async def end(self):
        self.let_go.set()
        await self.task


async def settled():
    for _ in range(5):
        await asyncio.sleep(0)


def test_restless_ones_take_turns_and_the_others_pass(clock):
    async def run():
        door = Patience()
        for client in range(AT_ONCE + 3):
            await answered(door, client)
        restless = [Held(door, client) for client in range(AT_ONCE + 2)]
        await settled()
        assert [each.working.is_set() for each in restless] == [True] * AT_ONCE + [False] * 2
        stranger = Held(door, 999)
        clock.now += 1
        rested = Held(door, AT_ONCE + 2)
        await settled()
        assert stranger.working.is_set() and rested.working.is_set()
        await restless[0].end()
        await settled()
        # In the order in which they came.
        assert [each.working.is_set() for each in restless] == [True] * (AT_ONCE + 1) + [False]
        for each in [*restless[1:], stranger, rested]:
            await each.end()

    asyncio.run(run())


def test_those_that_read_do_not_wait_for_those_that_change(clock):
    async def run():
        door = Patience()
        for client in range(AT_ONCE + 2):
            await answered(door, client)
        changing = [Held(door, client, "PUT") for client in range(AT_ONCE + 1)]
        reading = Held(door, AT_ONCE + 1)
        await settled()
        assert not changing[-1].working.is_set() and reading.working.is_set()
        for each in [*changing, reading]:
            await each.end()

    asyncio.run(run())


def test_a_crowd_is_let_in_one_by_one(clock):
    async def run():
        door = Patience()
        changing, reading = range(10), range(10, 10 + CROWD)
        for client in [*changing, *reading]:
            await answered(door, client)
        saves = [Held(door, client, "PUT") for client in changing[:4]]
        await settled()
        assert [each.working.is_set() for each in saves] == [True, True, False, False]
        # Those of the other kind count as well.
        looks = [Held(door, client) for client in reading]
        saves += [Held(door, client, "PUT") for client in changing[4:]]
        await settled()
        await saves[0].end()
        await settled()
        assert [each.working.is_set() for each in saves[1:4]] == [True, False, False]
        await saves[1].end()
        await settled()
        assert [each.working.is_set() for each in saves[2:5]] == [True, False, False]
        # Whoever gives up while waiting takes no place.
        saves[3].task.cancel()
        await saves[2].end()
        await settled()
        assert saves[4].working.is_set() and not saves[3].working.is_set()
        for each in [*looks, *saves]:
            each.let_go.set()
        await asyncio.wait_for(
            asyncio.gather(*(each.task for each in [*looks, *saves]), return_exceptions=True), 5
        )
        rooms = [door._reading, door._changing]
        assert [(len(each.waiting), each._inside) for each in rooms] == [(0, 0), (0, 0)]

    asyncio.run(run())


def test_a_crowd_waits_while_a_guest_is_answered_but_not_for_ever(clock):
    async def run():
        door = Patience()
        many = range(AT_ONCE + 2 * CROWD)
        for client in many:
            await answered(door, client)
        crowd = [Held(door, client) for client in many]
        await settled()
        guest = Held(door, 999)
        await settled()
        assert guest.working.is_set()
        for each in crowd[:AT_ONCE]:
            await each.end()
        await settled()
        assert not crowd[AT_ONCE].working.is_set()
        await guest.end()
        await settled()
        assert [each.working.is_set() for each in crowd[AT_ONCE:]] == [True] + [False] * (2 * CROWD - 1)
        # Guests without end: after a while one goes on beside them.
        others = [Held(door, 1000), Held(door, 1001)]
        await crowd[AT_ONCE].end()
        await settled()
        assert not crowd[AT_ONCE + 1].working.is_set()
        clock.now += LONGEST_TURN
        await others[0].end()
        await settled()
        assert [each.working.is_set() for each in crowd[AT_ONCE + 1 :]] == [True] + [False] * (2 * CROWD - 2)
        for each in [others[1], *crowd]:
            each.let_go.set()
        await asyncio.wait_for(asyncio.gather(*(each.task for each in [others[1], *crowd])), 5)

    asyncio.run(run())


def test_a_turn_ends_where_the_answer_begins_and_where_something_fails(clock):
    async def run():
        door = Patience()
        for client in range(AT_ONCE + 1):
            await answered(door, client)
        # Long downloads that somebody reads slowly: they hold no turn.
        downloads = [door.turn(scope(client), silent) for client in range(AT_ONCE)]
        for each in downloads:
            send = await each.__aenter__()
            await send(START)
        await asyncio.wait_for(answered(door, AT_ONCE), 5)
        for each in downloads:
            await each.__aexit__(None, None, None)
        for client in [*range(AT_ONCE), *range(AT_ONCE)]:
            with pytest.raises(RuntimeError):
                async with door.turn(scope(client), silent):
                    raise RuntimeError("broken off")
        # Had one of them kept its turn, these would wait for ever.
        held = [Held(door, client) for client in range(AT_ONCE)]
        await settled()
        assert all(each.working.is_set() for each in held)
        for each in held:
            await each.end()

    asyncio.run(run())


def test_what_takes_long_holds_up_nobody_for_long(clock, monkeypatch):
    monkeypatch.setattr(patience, "LONGEST_TURN", 0.05)

    async def run():
        door = Patience()
        for client in range(3 * AT_ONCE):
            await answered(door, client)
        long = [Held(door, client) for client in range(3 * AT_ONCE)]
        await settled()
        assert [each.working.is_set() for each in long] == [True] * AT_ONCE + [False] * 2 * AT_ONCE
        await asyncio.wait_for(long[-1].working.wait(), 10)
        for each in long:
            await each.end()
        # A turn that ended by itself is not given back a second time.
        for client in range(AT_ONCE + 1):
            await answered(door, client)
        again = [Held(door, client) for client in range(AT_ONCE + 1)]
        await settled()
        assert [each.working.is_set() for each in again] == [True] * AT_ONCE + [False]
        for each in again:
            await each.end()

    asyncio.run(run())


def test_no_more_is_remembered_than_there_is_room_for(clock):
    async def run():
        door = Patience()
        for client in range(REMEMBERED + 50):
            await answered(door, client)
        assert len(door._answered) == REMEMBERED
        # The oldest are forgotten, and pass like strangers; without an address nobody is known.
        held = [Held(door, client) for client in range(AT_ONCE + 2)]
        await settled()
        assert all(each.working.is_set() for each in held)
        for each in held:
            await each.end()
        async with door.turn({"type": "http", "method": "GET", "client": None}, silent):
            pass

    asyncio.run(run())
