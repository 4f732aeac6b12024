"""Whoever sends slowly, reads slowly, guesses or takes the folder twice does not keep others from their work."""

import asyncio
import base64
import http.client
import json
import os
import socket
import time
from types import SimpleNamespace

import pytest

from avocet.cli.server.running import _make_demo
from avocet.core.errors import InputError
from avocet.demo import project
from avocet.store.folder import DataFolder
from avocet.store.lock import only_server
from avocet.store.tables import Part
from avocet.web import events
from avocet.web.app import create_app
from avocet.web.door import front, keeper
from avocet.web.door.front import FrontDoor
from avocet.web.door.keeper import Doorkeeper, password_fits
from tests.servers import address_in


def asked(door, headers=(), body=(b"",), pause=0.0):
    """What a front door answers to a request whose body comes in pieces, and what it handed on."""
    sent, pieces = [], list(body)

    async def receive():
        await asyncio.sleep(pause)
        if not pieces:
            return {"type": "http.disconnect"}
        piece = pieces.pop(0)
        return {"type": "http.request", "body": piece, "more_body": bool(pieces)}

    async def send(message):
        sent.append(message)

    async def run():
        scope = {
            "type": "http",
            "method": "POST",
            "path": "/",
            "headers": [*headers],
            "client": ("10.0.0.9", 1),
        }
        scope |= door.get("scope", {})
        await FrontDoor(door["inner"], door.get("keeper"))(scope, receive, send)

    asyncio.run(run())
    return sent, pieces


@pytest.fixture
def door():
    """Keeps the bodies that reach the application behind it."""
    held = {"bodies": []}

    async def inner(scope, receive, send):
        body = b""
        while True:
            message = await receive()
            if message["type"] == "http.disconnect":
                held["bodies"].append((body, "broken off"))
                return
            body += message["body"]
            if not message["more_body"]:
                break
        held["bodies"].append((body, "whole"))
        await send({"type": "http.response.start", "status": 200, "headers": []})
        await send({"type": "http.response.body", "body": b"done"})

    return held | {"inner": inner}


MULTIPART = (b"content-type", b"multipart/form-data; boundary=x")


def basic(password):
    return b"Basic " + base64.b64encode(f"me:{password}".encode())


def test_a_body_is_whole_before_a_thread_sees_it(door):
    sent, _ = asked(door, body=[b"ab", b"cd", b""])
    assert sent[0]["status"] == 200 and door["bodies"] == [(b"abcd", "whole")]


def test_a_body_that_drips_is_left(door, monkeypatch):
    monkeypatch.setattr(front, "BODY_SECONDS", 0.2)
    sent, _ = asked(door, body=[b"x"] * 100, pause=0.05)
    assert sent[0]["status"] == 408 and door["bodies"] == []


@pytest.mark.parametrize("told", [True, False])
def test_a_body_that_is_too_large_is_left(door, monkeypatch, told):
    monkeypatch.setattr(front, "LARGEST_BODY", 1000)
    headers = [(b"content-length", b"5000")] if told else []
    sent, left = asked(door, headers, [b"x" * 500] * 10)
    assert sent[0]["status"] == 413 and door["bodies"] == []
    assert json.loads(sent[1]["body"])["detail"] == "a request that is no upload has at most 1,000 bytes"
    assert len(left) >= 7


def test_an_upload_that_falls_silent_or_drips_is_broken_off(door, monkeypatch):
    monkeypatch.setattr(front, "SILENCE", 0.1)
    asked(door, [MULTIPART], [b"x"] * 5, pause=0.3)
    monkeypatch.setattr(front, "SILENCE", 10)
    monkeypatch.setattr(front, "MEASURED_AFTER", 0.1)
    asked(door, [MULTIPART], [b"x"] * 50, pause=0.02)
    asked(door, [MULTIPART], [b"x" * 5000] * 20, pause=0.02)
    assert [ended for _, ended in door["bodies"]] == ["broken off", "broken off", "whole"]


@pytest.mark.parametrize(
    ("length", "handed_on"),
    [(b"300", False), (str(front.SMALL_UPLOAD + 1).encode(), True), (b"0", True), (None, True)],
)
def test_a_small_upload_is_whole_before_a_thread_sees_it(door, monkeypatch, length, handed_on):
    """A large one, and one of an unknown length, are handed on as they come."""
    monkeypatch.setattr(front, "BODY_SECONDS", 0.2)
    headers = [MULTIPART, *([(b"content-length", length)] if length is not None else [])]
    sent, _ = asked(door, headers, [b"x" * 100] * 3, pause=0.15)
    assert sent[0]["status"] == (200 if handed_on else 408)
    assert door["bodies"] == ([(b"x" * 300, "whole")] if handed_on else [])
    sent, _ = asked(door, headers, [b"y" * 100] * 3)
    assert sent[0]["status"] == 200 and door["bodies"][-1] == (b"y" * 300, "whole")


def test_a_reader_that_does_not_read_is_left(monkeypatch):
    monkeypatch.setattr(front, "SILENCE", 0.1)

    async def inner(scope, receive, send):
        await send({"type": "http.response.start", "status": 200, "headers": []})

    async def receive():
        return {"type": "http.request", "body": b"", "more_body": False}

    async def send(message):
        await asyncio.sleep(60)

    begun = time.monotonic()
    with pytest.raises(TimeoutError):
        asyncio.run(FrontDoor(inner)({"type": "http", "headers": []}, receive, send))
    assert time.monotonic() - begun < 10


@pytest.mark.parametrize("given", [None, b"nonsense", b"Basic !!", b"Bearer rye", basic("wheat"), basic("")])
def test_without_the_password_nothing_is_taken_and_guessing_is_slow(door, monkeypatch, given):
    waits = []

    async def wait(seconds):
        if seconds:
            waits.append(seconds)

    monkeypatch.setattr(keeper.asyncio, "sleep", wait)
    headers = [MULTIPART] + ([(b"authorization", given)] if given else [])
    sent, left = asked(door | {"keeper": Doorkeeper("rye")}, headers, [b"x" * 1000] * 500)
    assert sent[0]["status"] == 401 and len(left) == 500 and door["bodies"] == []
    # Who brings nothing has guessed nothing.
    assert waits == ([keeper.GUESS_SECONDS] if given else [])
    assert (b"www-authenticate", b'Basic realm="Avocet"') in sent[0]["headers"]


def test_guesses_from_one_place_wait_for_one_another(monkeypatch):
    """Otherwise somebody with many connections would see which one is answered at once."""
    monkeypatch.setattr(keeper, "GUESS_SECONDS", 0.2)
    kept = Doorkeeper("rye")
    right, wrong = basic("rye").decode(), [basic(f"rye {number}").decode() for number in range(4)]

    async def guess(authorization, client):
        begun = time.monotonic()
        known = await kept.lets_in(authorization, None, client)
        return known, time.monotonic() - begun

    async def run():
        guesses = [guess(each, "10.0.0.9") for each in [*wrong, right]]
        return await asyncio.gather(*guesses, guess(right, "10.0.0.8"), guess(wrong[0], "10.0.0.7"))

    *bad, late, elsewhere, other = asyncio.run(run())
    assert [known for known, _ in bad] == [False] * 4 and not other[0]
    assert late[0] and late[1] > 0.7, "after the wrong ones before it"
    assert elsewhere[0] and elsewhere[1] < 0.15 and other[1] < 0.35, "others do not wait for that"
    known, waited = asyncio.run(guess(right, "10.0.0.9"))
    assert known and waited < 0.1, "what was right once is known"


@pytest.fixture
def signed_in(door):
    """A front door whose keeper has somebody signed in: the door, and the cookie."""
    kept = Doorkeeper("rye")
    token = asyncio.run(kept.sign_in("rye", "10.0.0.9"))
    return door | {"keeper": kept}, (b"cookie", f"other=1; avocet={token}".encode())


def test_a_session_comes_in_until_it_is_ended(signed_in, monkeypatch):
    door, cookie = signed_in
    kept = door["keeper"]
    sent, _ = asked(door, [cookie])
    assert sent[0]["status"] == 200
    for wrong in (b"avocet=", b"avocet=nonsense", b"avocet=%zz;;;=", b"=" * 5000):
        assert asked(door, [(b"cookie", wrong)])[0][0]["status"] == 401
    second = f"avocet={asyncio.run(kept.sign_in('rye', 'x'))}"
    mine = cookie[1].decode()
    assert kept.others(mine) == 1 and kept.others(second) == 1 and kept.others(None) == 2
    kept.end(mine, others=True)
    assert not kept.knows(None, second) and kept.knows(None, mine)
    kept.end(mine)
    assert asked(door, [cookie])[0][0]["status"] == 401
    # One in which nobody asks for anything is over after a while.
    third = f"avocet={asyncio.run(kept.sign_in('rye', 'x'))}"
    now = time.monotonic()
    monkeypatch.setattr(keeper.time, "monotonic", lambda: now + keeper.IDLE_SECONDS - 5)
    assert kept.knows(None, third)
    monkeypatch.setattr(keeper.time, "monotonic", lambda: now + 2 * keeper.IDLE_SECONDS)
    assert not kept.knows(None, third) and kept.others(None) == 0


def test_a_stream_ends_with_its_session(monkeypatch):
    monkeypatch.setattr(events, "QUIET", 0.05)
    kept = Doorkeeper("rye")
    token = asyncio.run(kept.sign_in("rye", "10.0.0.9"))
    cookie, sent = f"avocet={token}", []

    async def inner(scope, receive, send):
        await send({"type": "http.response.start", "status": 200, "headers": []})
        await send({"type": "http.response.body", "body": b""})

    async def send(message):
        sent.append(message)

    async def silent():
        await asyncio.sleep(30)

    async def follow():
        hub = SimpleNamespace(follow=lambda project_id, put: lambda: None)
        door = FrontDoor(events.with_events(inner, hub), kept)
        scope = {
            "type": "http", "method": "GET", "path": "/api/v1/projects/1/events",
            "headers": [(b"cookie", cookie.encode()), (b"content-length", b"0")],
        }  # fmt: skip
        first = [{"type": "http.request", "body": b"", "more_body": False}]

        async def receive():
            return first.pop() if first else await silent()

        stream = asyncio.create_task(door(scope, receive, send))
        await asyncio.sleep(0.3)
        assert not stream.done() and any(b"still here" in each.get("body", b"") for each in sent)
        kept.end(cookie)
        await asyncio.wait_for(stream, 1)

    asyncio.run(follow())
    assert sent[-1] == {"type": "http.response.body", "body": b"", "more_body": False}


def test_a_browser_is_sent_to_the_page_on_which_it_signs_in(door, monkeypatch):
    monkeypatch.setattr(keeper, "GUESS_SECONDS", 0.0)
    door = door | {"keeper": Doorkeeper("rye & bröt")}
    page = {"scope": {"method": "GET", "path": "/project/1"}}
    (start, _), _ = asked(door | page, [(b"accept", b"text/html,*/*")])
    assert start["status"] == 303 and (b"location", b"/sign-in") in start["headers"]
    # What the page itself asks for gets no window of the browser's own.
    (start, _), _ = asked(door | page, [(b"sec-fetch-site", b"same-origin")])
    assert start["status"] == 401 and not any(name == b"www-authenticate" for name, _ in start["headers"])
    form = {"scope": {"method": "GET", "path": "/sign-in"}}
    (start, body), _ = asked(door | form)
    assert start["status"] == 200 and b'type="password"' in body["body"]
    form["scope"]["method"] = "POST"
    (start, body), _ = asked(door | form, body=[b"password=wheat"])
    assert start["status"] == 401 and b"This is not the password" in body["body"]
    assert not any(name == b"set-cookie" for name, _ in start["headers"])
    (start, _), _ = asked(door | form, [(b"host", b"a:1"), (b"origin", b"http://b:1")], [b"password=x"])
    assert start["status"] == 403
    assert asked(door | form, body=[b"x" * 5000, b"x" * 5000])[0][0]["status"] == 413
    (start, _), _ = asked(door | form, body=[b"password=rye+%26+br%C3%B6t"])
    headers = dict(start["headers"])
    assert start["status"] == 303 and headers[b"location"] == b"/"
    assert b"HttpOnly; SameSite=Strict" in headers[b"set-cookie"]
    cookie = headers[b"set-cookie"].partition(b";")[0]
    assert asked(door | page, [(b"cookie", cookie)])[0][0]["status"] == 200


def test_the_password_may_hold_what_it_likes():
    for password in ("rye", "rye:bread", "brötchen", "x" * 500):
        assert password_fits(basic(password).decode(), password)
        assert not password_fits(basic(password + " ").decode(), password)


def test_a_folder_has_one_server(data):
    with (
        only_server(data[0]),
        pytest.raises(InputError, match=r"is served already, by process \d+"),
        only_server(data[0]),
    ):
        pass
    with only_server(data[0]):
        pass


@pytest.mark.slow
def test_a_second_server_says_why_it_does_not_start(serve, tmp_path):
    with only_server(DataFolder(tmp_path / "data")):
        other, said = serve("--port", "0")
        assert f"is served already, by process {os.getpid()}" in said and other.wait(timeout=60) == 1


@pytest.mark.long
@pytest.mark.slow
def test_a_page_answers_beside_slow_and_idle_clients(serve):
    _, line = serve("--port", "0")
    port = int(address_in(line).rsplit(":", 1)[1])
    client = http.client.HTTPConnection("127.0.0.1", port, timeout=30)
    client.request(
        "POST", "/api/v1/projects", json.dumps({"name": "Belt"}), {"Content-Type": "application/json"}
    )
    assert client.getresponse().read()
    head = b"POST /api/v1/projects/1/media HTTP/1.1\r\nHost: 127.0.0.1\r\n"
    upload = head + b"Content-Type: multipart/form-data; boundary=x\r\nContent-Length: 90000\r\n\r\n--x\r\n"
    small = b"POST /api/v1/projects HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 5000\r\n\r\n{"
    opened = []
    for kind in [b"", b"GET /api", upload, small] * 50:
        connection = socket.create_connection(("127.0.0.1", port), timeout=30)
        if kind:
            connection.sendall(kind)
        opened.append(connection)
    times = []
    for _ in range(30):
        begun = time.perf_counter()
        client.request("GET", "/api/v1/projects/1")
        assert client.getresponse().read()
        times.append(time.perf_counter() - begun)
        for connection in opened[::7]:
            connection.sendall(b"x")
    for connection in opened:
        connection.close()
    # Held up, it would be the seconds that such a client is given.
    assert sorted(times)[-3] < 2


@pytest.mark.slow
def test_the_demo_is_made_while_the_server_answers(data, monkeypatch):
    folder, sessions = data
    monkeypatch.setattr(project, "PARTS", ((Part.TRAINING, 3), (Part.VALIDATION, 2)))
    monkeypatch.setattr(project, "UNLABELLED", 1)
    monkeypatch.setattr(project, "CLIP_SECONDS", 1)
    app = create_app(folder, sessions, lambda job_id, kind: None)
    _make_demo(sessions, folder, app.extensions["avocet"])
    told = []
    ends = time.monotonic() + 120
    while not (found := app.test_client().get("/api/v1/projects").json)["projects"]:
        assert time.monotonic() < ends
        told.append(found["making"])
        time.sleep(0.02)
    assert found["projects"][0]["name"] == "Cooling belt" and found["projects"][0]["stages"]["labelled"] == 5
    assert any(each and each["title"] == "Rendering the demo project" and each["done"] > 1 for each in told)
