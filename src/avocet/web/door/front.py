"""The front door: what is settled of a request before a thread takes it up.

Threads are few. Whoever has no password, sends slowly or reads slowly is dealt with here, where a
connection that waits costs next to nothing.
"""

import asyncio
import json
import time
from collections.abc import Awaitable, Callable
from functools import partial
from typing import Any

from avocet.web.door import sign_in
from avocet.web.door.keeper import Doorkeeper
from avocet.web.door.patience import Patience

Message = dict[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]

LARGEST_BODY = 16_000_000
"""Bytes of a request that is no upload: a hundred thousand numbers take a twentieth of it."""

BODY_SECONDS = 20.0
"""In this time such a body has to be there."""

SILENCE = 30.0
"""After so many seconds without a byte an upload, or a download that nobody reads, is broken off."""

SLOWEST, MEASURED_AFTER = 1000.0, 30.0
"""Bytes a second that an upload needs, once it has gone on for so many seconds."""

UPLOADS = 8
"""Uploads at once; further ones wait without holding a thread."""

SMALL_UPLOAD = 100_000
"""Bytes up to which an upload is taken whole, as any other body is, before a thread takes it up: slow lines have them
together in time."""

STILL_IN = "avocet.still_in"
"""Where what is handed on asks whether whoever came in still may."""

BASIC = [(b"www-authenticate", b'Basic realm="Avocet"')]


class FrontDoor:
    """An ASGI application before another one.

    Parameters
    ----------
    inner : ASGI application
    keeper : Doorkeeper, optional
        Says who may come in, before any of a request's body is taken.
    """

    def __init__(self, inner: Any, keeper: Doorkeeper | None = None) -> None:
        self._inner, self._keeper = inner, keeper
        self._uploads = asyncio.Semaphore(UPLOADS)
        self._patience = Patience()

    async def __call__(self, scope: Message, receive: Receive, send: Send) -> None:
        """Answer a request, or hand it on once it may be."""
        if scope["type"] != "http":
            await self._inner(scope, receive, send)
            return
        headers = {name.lower(): value for name, value in scope["headers"]}
        if self._keeper is not None and not await self._may_come_in(scope, headers, receive, send):
            return
        patient = read_in_time(send)
        length = int(headers.get(b"content-length", b"0") or 0)
        form = headers.get(b"content-type", b"").startswith(b"multipart/form-data")
        if form and not 0 < length <= SMALL_UPLOAD:
            async with self._uploads:
                await self._inner(scope, _fast_enough(receive), patient)
            return
        if length > LARGEST_BODY:
            await _refuse_large(send)
            return
        try:
            body = await asyncio.wait_for(whole_body(receive, LARGEST_BODY), BODY_SECONDS)
        except TimeoutError:
            await refuse(send, 408, "Too slow", f"the request was not there within {BODY_SECONDS:g} seconds")
            return
        if body is None:
            return
        if len(body) > LARGEST_BODY:
            await _refuse_large(send)
            return
        async with self._patience.turn(scope, patient) as told:
            await self._inner(scope, _once(body, receive), told)

    async def _may_come_in(
        self, scope: Message, headers: dict[bytes, bytes], receive: Receive, send: Send
    ) -> bool:
        """Whether a request is handed on; one that is not is answered here."""
        keeper = self._keeper
        assert keeper is not None
        client = str((scope.get("client") or ("",))[0])
        method = scope.get("method", "GET")
        if scope.get("path") == sign_in.PATH:
            if method == "POST":
                body = await asyncio.wait_for(whole_body(receive, sign_in.LARGEST_FORM), BODY_SECONDS)
                if body is None or len(body) > sign_in.LARGEST_FORM:
                    await _refuse_large(send)
                    return False
                await _say(send, await sign_in.signed_in(keeper, headers, body, client))
            else:
                await _say(send, sign_in.shown())
            return False
        authorization, cookie = _text(headers, b"authorization"), _text(headers, b"cookie")
        if await keeper.lets_in(authorization, cookie, client):
            scope[STILL_IN] = partial(keeper.still_knows, authorization, cookie)
            return True
        if not authorization and method == "GET" and b"text/html" in headers.get(b"accept", b""):
            await _say(send, sign_in.to(sign_in.PATH))
            return False
        # A browser would ask for the password in a window of its own, which no session comes of.
        asks = [] if b"sec-fetch-site" in headers else BASIC
        await refuse(send, 401, "Password wanted", "the password of this server is missing or wrong", asks)
        return False


async def _say(send: Send, answer: sign_in.Answer) -> None:
    status, headers, content = answer
    length = (b"content-length", str(len(content)).encode())
    await send({"type": "http.response.start", "status": status, "headers": [*headers, length]})
    await send({"type": "http.response.body", "body": content})


async def whole_body(
    receive: Receive, most: int, holding: Callable[[int], object] = lambda count: None
) -> bytes | None:
    """The whole body, or as much as shows that it is too large; None where the sender is gone.

    ``holding`` is told of each piece how many bytes more are held, also where they come to nothing.
    """
    held = bytearray()
    while len(held) <= most:
        message = await receive()
        if message["type"] == "http.disconnect":
            return None
        some = message.get("body", b"")
        held += some
        holding(len(some))
        if not message.get("more_body", False):
            break
    return bytes(held)


def _once(body: bytes, receive: Receive) -> Receive:
    """The body in one piece, and afterwards what else comes."""
    given = False

    async def again() -> Message:
        nonlocal given
        if given:
            return await receive()
        given = True
        return {"type": "http.request", "body": body, "more_body": False}

    return again


def _fast_enough(receive: Receive) -> Receive:
    """An upload's messages, until it falls silent or drips."""
    begun, taken = time.monotonic(), 0

    async def watched() -> Message:
        nonlocal taken
        try:
            message = await asyncio.wait_for(receive(), SILENCE)
        except TimeoutError:
            return {"type": "http.disconnect"}
        taken += len(message.get("body", b""))
        seconds = time.monotonic() - begun
        if message.get("more_body") and seconds > MEASURED_AFTER and taken < SLOWEST * seconds:
            return {"type": "http.disconnect"}
        return message

    return watched


def read_in_time(send: Send) -> Send:
    """Sending that does not wait for ever for somebody who does not read."""

    async def watched(message: Message) -> None:
        await asyncio.wait_for(send(message), SILENCE)

    return watched


def _text(headers: dict[bytes, bytes], name: bytes) -> str | None:
    value = headers.get(name)
    return None if value is None else value.decode("latin-1")


async def _refuse_large(send: Send) -> None:
    await refuse(send, 413, "Too large", f"a request that is no upload has at most {LARGEST_BODY:,} bytes")


async def refuse(
    send: Send, status: int, title: str, detail: str, more: list[tuple[bytes, bytes]] | None = None
) -> None:
    """Answer with a problem document (RFC 9457); what is left of the request is not read."""
    content = json.dumps({"type": "about:blank", "title": title, "status": status, "detail": detail}).encode()
    headers = [
        (b"content-type", b"application/problem+json"),
        (b"content-length", str(len(content)).encode()),
        (b"connection", b"close"),
        *(more or []),
    ]
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": content})
