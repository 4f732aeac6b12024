"""Server-sent events: one thread looks for news, and all open streams are fed from it.

A stream holds no request thread, so that two hundred open pages leave the server as quick as one.
"""

import asyncio
import json
import logging
import re
import threading
from collections.abc import Awaitable, Callable
from typing import Any

from avocet.store.database import Sessions
from avocet.web.context import job_out
from avocet.web.door.front import STILL_IN
from avocet.web.kept import KeptLabels
from avocet.work.news import News, ProjectNews

log = logging.getLogger(__name__)

LOOK_EVERY = 0.4
"""Seconds between two looks."""

QUIET = 10.0
"""After so many seconds without news a stream says that it is still there, so that a lost page is noticed."""

PATH = re.compile(r"/api/v1/projects/(\d+)/events")
OPENING = "retry: 500\n\n"

Message = dict[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
Put = Callable[[str], None]


class EventHub:
    """Looks for news of every project that somebody follows, and hands it to all who do.

    Parameters
    ----------
    reading : Sessions
    labels : KeptLabels
        Read in the background for a project that is followed, and on while jobs of it are at work.
    """

    def __init__(self, reading: Sessions, labels: KeptLabels) -> None:
        self._reading = reading
        self._labels = labels
        self._behind: set[int] = set()
        self._lock = threading.Lock()
        self._following: dict[int, set[Put]] = {}
        self._news: dict[int, ProjectNews] = {}
        self._closing = threading.Event()
        self._thread = threading.Thread(target=self._run, name="events", daemon=True)

    def start(self) -> None:
        """Begin to look."""
        self._thread.start()

    def close(self) -> None:
        """Look no more."""
        self._closing.set()

    def follow(self, project_id: int, put: Put) -> Callable[[], None]:
        """Hand the events of a project to ``put``, beginning with how it stands; returns what ends it."""
        # Nobody looks in between, so that nothing is missed and nothing old comes after something new.
        with self._lock, self._reading() as session:
            news = ProjectNews(project_id)
            put(as_events(news.look(session)))
            self._news.setdefault(project_id, news)
            self._following.setdefault(project_id, set()).add(put)
            self._behind.add(project_id)

        def leave() -> None:
            with self._lock:
                self._following[project_id].discard(put)

        return leave

    def look(self) -> None:
        """Hand out what is new, once."""
        with self._lock:
            for project_id, puts in self._following.items():
                if not puts:
                    # Whoever comes next begins anew.
                    self._news.pop(project_id, None)
                    continue
                with self._reading() as session:
                    news = self._news[project_id].look(session)
                told = as_events(news)
                for put in puts if told else ():
                    put(told)
                if news.jobs:
                    self._behind.add(project_id)
                if project_id in self._behind and self._labels.warm_up(project_id):
                    self._behind.discard(project_id)

    def _run(self) -> None:
        while not self._closing.wait(LOOK_EVERY):
            try:
                self.look()
            except Exception:
                # A busy or full database: the next look may fare better.
                log.exception("looking for news failed")


def as_events(news: News) -> str:
    """News as the text of server-sent events; empty where there is none."""
    told = [_event("job", job_out(job).model_dump_json()) for job in news.jobs]
    told += [_event("epoch", json.dumps({"run_id": run_id, "epoch": epoch})) for run_id, epoch in news.epochs]
    return "".join(told)


def with_events(inner: Any, hub: EventHub) -> Any:
    """An ASGI application that takes over the streams which the inner one has admitted.

    The inner application answers the request for a stream like any other, with its checks of
    password, host and project; where it says yes, the answer goes on as a stream.
    """

    async def app(scope: Message, receive: Receive, send: Send) -> None:
        match = PATH.fullmatch(scope.get("path", "")) if scope["type"] == "http" else None
        if match is None or scope["method"] != "GET":
            await inner(scope, receive, send)
            return
        answer: list[Message] = []

        async def keep(message: Message) -> None:
            answer.append(message)

        await inner(scope, receive, keep)
        start = answer[0]
        if start["status"] != 200:
            for message in answer:
                await send(message)
            return
        headers = [pair for pair in start["headers"] if pair[0].lower() != b"content-length"]
        await send({"type": "http.response.start", "status": 200, "headers": headers})
        await _stream(hub, int(match[1]), receive, send, scope.get(STILL_IN, lambda: True))

    return app


async def _stream(
    hub: EventHub, project_id: int, receive: Receive, send: Send, still_in: Callable[[], bool]
) -> None:
    loop = asyncio.get_running_loop()
    waiting: asyncio.Queue[str] = asyncio.Queue()
    gone = asyncio.create_task(_until_gone(receive))

    def put(text: str) -> None:
        if not loop.is_closed():
            loop.call_soon_threadsafe(waiting.put_nowait, text)

    await send({"type": "http.response.body", "body": OPENING.encode(), "more_body": True})
    leave = await loop.run_in_executor(None, hub.follow, project_id, put)
    try:
        while not gone.done():
            news = asyncio.create_task(waiting.get())
            await asyncio.wait({news, gone}, timeout=QUIET, return_when=asyncio.FIRST_COMPLETED)
            if gone.done() or not still_in():
                news.cancel()
                break
            text = news.result() if news.done() else ": still here\n\n"
            news.cancel()
            if text:
                await send({"type": "http.response.body", "body": text.encode(), "more_body": True})
        if not gone.done():
            await send({"type": "http.response.body", "body": b"", "more_body": False})
    finally:
        leave()
        gone.cancel()


async def _until_gone(receive: Receive) -> None:
    while (await receive())["type"] != "http.disconnect":
        pass


def _event(name: str, content: str) -> str:
    return f"event: {name}\ndata: {content}\n\n"
