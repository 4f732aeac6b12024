"""Who may come in: a password, and the sessions that begin with it and can be ended."""

import asyncio
import base64
import binascii
import hashlib
import secrets
import time
from collections import OrderedDict
from dataclasses import dataclass
from http.cookies import CookieError, SimpleCookie

GUESS_SECONDS = 1.0
"""How long a wrong password waits for its answer. From one address they wait in turn."""

IDLE_SECONDS = 7 * 24 * 3600.0
"""A session in which nobody asked for anything for so long is over."""

MOST_SESSIONS, MOST_ADDRESSES = 500, 2000

COOKIE = "avocet"


@dataclass
class SignedIn:
    """A browser that brought the password once."""

    since: float
    seen: float


def password_fits(authorization: str | None, password: str) -> bool:
    """Whether a header of HTTP basic authentication (RFC 7617) brings the password, under any user name."""
    kind, _, credentials = (authorization or "").partition(" ")
    if kind.lower() != "basic":
        return False
    try:
        _, _, given = base64.b64decode(credentials.strip(), validate=True).partition(b":")
    except (binascii.Error, ValueError):
        return False
    return secrets.compare_digest(given, password.encode())


class Doorkeeper:
    """Knows the password, and who is signed in.

    Programs bring the password with each request (HTTP basic authentication); a browser signs in once and then has
    a cookie. Of cookies only a hash is kept, and all are forgotten when the server ends.

    Parameters
    ----------
    password : str
    """

    def __init__(self, password: str) -> None:
        self._password = password
        self._sessions: OrderedDict[str, SignedIn] = OrderedDict()
        self._known: OrderedDict[str, None] = OrderedDict()
        self._turns: OrderedDict[str, asyncio.Lock] = OrderedDict()

    def knows(self, authorization: str | None, cookie: str | None) -> bool:
        """Whether a request may come in, without any waiting: its session goes on, or it brings the password."""
        return self.session_of(cookie) is not None or password_fits(authorization, self._password)

    async def lets_in(self, authorization: str | None, cookie: str | None, client: str) -> bool:
        """The same, where who guesses has to wait: what is not known already is looked at one by one."""
        if self.session_of(cookie) is not None:
            return True
        if not authorization:
            return False
        mark = _hash(authorization)
        if mark in self._known:
            return True
        if await self.guessed(password_fits(authorization, self._password), client):
            self._known[mark] = None
            while len(self._known) > MOST_ADDRESSES:
                self._known.popitem(last=False)
            return True
        return False

    async def guessed(self, right: bool, client: str) -> bool:
        """Whether a password was right, said in turn with others from there, and slowly where it was not."""
        lock = self._turns.setdefault(client, asyncio.Lock())
        self._turns.move_to_end(client)
        while len(self._turns) > MOST_ADDRESSES:
            self._turns.popitem(last=False)
        async with lock:
            if not right:
                await asyncio.sleep(GUESS_SECONDS)
        return right

    async def sign_in(self, password: str, client: str) -> str | None:
        """Begin a session; what its cookie holds, or None where the password is wrong."""
        if not await self.guessed(secrets.compare_digest(password.encode(), self._password.encode()), client):
            return None
        token, now = secrets.token_urlsafe(32), time.monotonic()
        self._sessions[_hash(token)] = SignedIn(now, now)
        while len(self._sessions) > MOST_SESSIONS:
            self._sessions.popitem(last=False)
        return token

    def session_of(self, cookie: str | None) -> str | None:
        """The session that a cookie header belongs to, as long as it is not over; it was seen now."""
        token = _token_in(cookie)
        if not token:
            return None
        mark, now = _hash(token), time.monotonic()
        found = self._sessions.get(mark)
        if found is None:
            return None
        if now - found.seen > IDLE_SECONDS:
            del self._sessions[mark]
            return None
        found.seen = now
        return mark

    def still_knows(self, authorization: str | None, cookie: str | None) -> bool:
        """As `knows`, asked of what goes on for long: that alone keeps no session from its end."""
        found = self._sessions.get(_hash(_token_in(cookie)))
        if found is not None:
            return time.monotonic() - found.seen <= IDLE_SECONDS
        return password_fits(authorization, self._password)

    def others(self, cookie: str | None) -> int:
        """How many sessions there are beside one's own."""
        own = self.session_of(cookie)
        return len(self._sessions) - (own is not None)

    def end(self, cookie: str | None, others: bool = False) -> None:
        """End one's own session, or all but it."""
        own = self.session_of(cookie)
        for mark in list(self._sessions):
            if (mark == own) != others:
                del self._sessions[mark]


def _hash(text: str) -> str:
    return hashlib.sha256(text.encode("utf-8", "surrogateescape")).hexdigest()


def _token_in(cookie: str | None) -> str:
    if not cookie:
        return ""
    try:
        found = SimpleCookie(cookie).get(COOKIE)
    except CookieError:
        return ""
    return found.value if found is not None else ""
