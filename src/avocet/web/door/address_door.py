"""The door of other programs: calls of addresses, handed to the process that answers.

They are dealt with before the page's requests and hold none of its threads: a key is looked at, a body taken
within limits and time, and both handed on; what comes back goes out.
"""

import asyncio
import re
import time
from collections import OrderedDict
from collections.abc import Callable
from concurrent.futures import Future
from typing import Any
from urllib.parse import parse_qs

from avocet.store.database import Sessions
from avocet.store.folder import DataFolder
from avocet.web.door.front import Message, Receive, Send, read_in_time, refuse, whole_body
from avocet.work.addresses.addresses import Answering, answering, digest_of
from avocet.work.addresses.calls import ANSWERED, NO_KEY, CallCounter
from avocet.work.addresses.frames import NO_PICTURE
from avocet.work.addresses.link import AnswerLink, Unanswerable
from avocet.work.problems import NotFound

PATH = re.compile(r"/api/v1/addresses/([a-z0-9-]{1,60})/detections")

LARGEST_BODY = 64_000_000
BODY_SECONDS, ANSWER_SECONDS = 60.0, 60.0
MOST_WAITING, MOST_HELD = 512, 1_000_000_000
"""Calls, and bytes of their bodies, that wait for an answer; whoever comes then is told to come again."""

FRESH = 0.5
"""Seconds for which an address is known without looking again."""

WRITE_EVERY = 2.0
GUESS_SECONDS = 0.3


class AddressDoor:
    """An ASGI application that answers calls of addresses and hands on everything else.

    Parameters
    ----------
    inner : ASGI application
    folder : DataFolder
    reading : Sessions
    counter : CallCounter
    link : AnswerLink
    wanted : callable
        Told that somebody waits for an answer, so that the process is there.
    """

    def __init__(
        self,
        inner: Any,
        folder: DataFolder,
        reading: Sessions,
        counter: CallCounter,
        link: AnswerLink,
        wanted: Callable[[], None],
    ) -> None:
        self._inner, self._folder, self._reading = inner, folder, reading
        self._counter, self._link, self._wanted = counter, link, wanted
        self._known: OrderedDict[str, tuple[float, Answering | None]] = OrderedDict()
        self._allowed: dict[tuple[int, int], list[float]] = {}
        self._written = time.monotonic()
        self._writing: asyncio.Task[None] | None = None
        self._held = 0

    def forget(self) -> None:
        """Look at every address anew: something was changed, and a call may come soon."""
        self._known.clear()
        self._wanted()

    async def __call__(self, scope: Message, receive: Receive, send: Send) -> None:
        """Answer a call of an address."""
        match = PATH.fullmatch(scope.get("path", "")) if scope["type"] == "http" else None
        if match is None:
            await self._inner(scope, receive, send)
            return
        begun = time.perf_counter()
        call = _Call(scope, receive, send)
        if scope["method"] != "POST":
            await call.refuse(
                405, "Send a picture", "an address is called by POST with a picture", allow="POST"
            )
            return
        try:
            found = await self._answering(match[1])
        except NotFound as error:
            await call.refuse(503, "The model cannot answer", str(error))
            return
        if found is None:
            await asyncio.sleep(GUESS_SECONDS)
            await call.refuse(404, "Not found", f"there is no address {match[1]!r}")
            return
        key_id, outcome, pictures = await self._answer(found, call)
        took = 1000 * (time.perf_counter() - begun)
        self._counter.count(found.id, key_id, outcome, pictures, took)
        self._write_now_and_then()

    async def _answer(self, found: Answering, call: "_Call") -> tuple[int, str, int]:
        """Answer a call; number of its key, outcome, and how many pictures it had."""
        digest = digest_of(call.key)
        if digest not in found.keys:
            await asyncio.sleep(GUESS_SECONDS)
            why = "was revoked" if digest in found.revoked else "is missing or unknown"
            await call.refuse(
                401,
                "Key wanted",
                f"the key {why}; send it as: Authorization: Bearer KEY",
                www_authenticate='Bearer realm="Avocet"',
            )
            return NO_KEY, "no key", 0
        key_id, per_minute = found.keys[digest]
        wait = self._too_many(found.id, key_id, per_minute)
        if wait:
            detail = f"this key allows {per_minute} calls a minute; come again in {wait} s"
            await call.refuse(429, "Too many calls", detail, retry_after=str(wait))
            return key_id, "too many", 0
        head, wrong = _wished(found.head, call.query)
        if wrong:
            await call.refuse(422, "That cannot be used", wrong)
            return key_id, "failed", 0
        if call.length > LARGEST_BODY:
            await call.refuse(413, "Too large", f"a call has at most {LARGEST_BODY:,} bytes")
            return key_id, "too large", 0
        if self._link.waiting >= MOST_WAITING or self._held > MOST_HELD:
            await call.refuse(
                503, "Busy", "more calls wait than can be answered soon; come again", retry_after="1"
            )
            return key_id, "failed", 0
        held = 0

        def hold(count: int) -> None:
            nonlocal held
            held += count
            self._held += count

        try:
            body = await asyncio.wait_for(whole_body(call.receive, LARGEST_BODY, hold), BODY_SECONDS)
            if body is None:
                return key_id, "failed", 0
            if len(body) > LARGEST_BODY:
                await call.refuse(413, "Too large", f"a call has at most {LARGEST_BODY:,} bytes")
                return key_id, "too large", 0
            self._wanted()
            return await self._handed_on(head | {"content_type": call.content_type}, body, call, key_id)
        except TimeoutError:
            await call.refuse(408, "Too slow", f"the picture was not there within {BODY_SECONDS:g} seconds")
            return key_id, "failed", 0
        finally:
            self._held -= held

    async def _handed_on(
        self, head: dict[str, Any], body: bytes, call: "_Call", key_id: int
    ) -> tuple[int, str, int]:
        future: Future[tuple[dict[str, Any], bytes]] = self._link.ask(head, body)
        try:
            reply, content = await asyncio.wait_for(asyncio.wrap_future(future), ANSWER_SECONDS)
        except TimeoutError:
            await call.refuse(504, "No answer", f"there was no answer within {ANSWER_SECONDS:g} seconds")
            return key_id, "failed", 0
        except Unanswerable as error:
            await call.refuse(503, "Not answered", str(error))
            return key_id, "failed", 0
        status = int(reply["status"])
        if status == 200:
            await call.answer(content)
        else:
            await call.refuse(status, reply["title"], reply["detail"])
        outcome = {200: ANSWERED, 413: "too large"}.get(status, "failed")
        if reply.get("title") == NO_PICTURE:
            outcome = "no picture"
        return key_id, outcome, int(reply["pictures"])

    async def _answering(self, name: str) -> Answering | None:
        at, found = self._known.get(name, (0.0, None))
        if time.monotonic() - at < FRESH:
            return found
        found = await asyncio.to_thread(self._look, name)
        self._known[name] = (time.monotonic(), found)
        while len(self._known) > 1000:
            self._known.popitem(last=False)
        return found

    def _look(self, name: str) -> Answering | None:
        with self._reading() as session:
            return answering(session, self._folder, name)

    def _too_many(self, address_id: int, key_id: int, per_minute: int) -> int:
        """Seconds to wait, or 0: a bucket that holds a minute's calls and fills evenly."""
        now = time.monotonic()
        left, at = self._allowed.get((address_id, key_id), (float(per_minute), now))
        left = min(float(per_minute), left + (now - at) * per_minute / 60)
        if left < 1:
            self._allowed[(address_id, key_id)] = [left, now]
            return max(1, round((1 - left) * 60 / per_minute))
        self._allowed[(address_id, key_id)] = [left - 1, now]
        return 0

    def _write_now_and_then(self) -> None:
        """Write the counts down beside the answering, and those of the last calls a little later."""
        if self._writing is None or self._writing.done():
            self._writing = asyncio.create_task(self._write_soon())

    async def _write_soon(self) -> None:
        await asyncio.sleep(WRITE_EVERY)
        await asyncio.to_thread(self._counter.write)


class _Call:
    """One request, as far as it is read."""

    def __init__(self, scope: Message, receive: Receive, send: Send) -> None:
        headers = {name.lower(): value.decode("latin-1") for name, value in scope["headers"]}
        self.receive, self.send = receive, read_in_time(send)
        kind, _, credentials = headers.get(b"authorization", "").partition(" ")
        self.key = credentials.strip() if kind.lower() == "bearer" else headers.get(b"x-api-key", "").strip()
        self.content_type = headers.get(b"content-type", "")
        length = headers.get(b"content-length", "0")
        self.length = int(length) if length.isdigit() else 0
        self.query = parse_qs(scope.get("query_string", b"").decode("latin-1"), keep_blank_values=True)

    async def answer(self, content: bytes) -> None:
        headers = [(b"content-type", b"application/json"), (b"content-length", str(len(content)).encode())]
        headers.append((b"cache-control", b"no-store"))
        await self.send({"type": "http.response.start", "status": 200, "headers": headers})
        await self.send({"type": "http.response.body", "body": content})

    async def refuse(self, status: int, title: str, detail: str, **more: str) -> None:
        """Refuse the call; ``more`` are headers, their names with underscores."""
        headers = [(name.replace("_", "-").encode(), value.encode()) for name, value in more.items()]
        await refuse(self.send, status, title, detail, headers)


def _wished(head: dict[str, Any], query: dict[str, list[str]]) -> tuple[dict[str, Any], str]:
    """The head with what the call itself wants, or what is wrong with that."""
    order, annotated = dict(head["order"]), False
    for name, values in query.items():
        value = values[-1]
        if name in ("minimum_score", "overlap_limit"):
            try:
                order[name] = float(value)
            except ValueError:
                return head, f"{name} is {value!r}, which is no number"
            if not 0 <= order[name] <= 1:
                return head, f"{name} must lie between 0 and 1, not {value}"
        elif name == "class":
            order["only"] = values
        elif name == "annotated":
            if value not in ("true", "false"):
                return head, f"annotated is true or false, not {value!r}"
            annotated = value == "true"
        else:
            return head, f"an address knows minimum_score, overlap_limit, class and annotated, not {name!r}"
    return head | {"order": order, "annotated": annotated}, ""
