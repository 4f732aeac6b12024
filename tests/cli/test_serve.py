"""`avocet serve`: what it says, what it refuses, how it ends."""

import json
import os
import signal
import socket
import time
import urllib.error
import urllib.request

import pytest

from tests.servers import address_in, children_of, servers
from tests.waiting import wait_for

pytestmark = pytest.mark.slow


@pytest.fixture
def serve(tmp_path):
    """Starts servers on one data folder; another one is named by a later `--data`."""
    with servers(tmp_path / "data") as start:
        yield start


def alive(pid):
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    return True


@pytest.mark.long
def test_says_where_it_is_and_ends_with_its_workers(serve):
    process, line = serve("--port", "0")
    assert line.startswith("Avocet is at http://127.0.0.1:") and "Ctrl-C ends it" in line
    with urllib.request.urlopen(address_in(line) + "/api/v1/projects", timeout=60) as reply:
        assert json.load(reply) == {"projects": [], "making": None}
    ends = time.monotonic() + 60
    while len(children_of(process.pid)) < 2:
        assert time.monotonic() < ends
        time.sleep(0.05)
    workers = children_of(process.pid)
    process.send_signal(signal.SIGTERM)
    assert process.wait(timeout=60) == 0
    # The one that the others were forked from sees that the server is gone.
    wait_for(lambda: not any(alive(pid) for pid in workers))


@pytest.mark.long
def test_ctrl_c_ends_it_in_the_midst_of_requests_without_a_word(serve):
    process, line = serve("--port", "0")
    host, port = address_in(line).removeprefix("http://").rsplit(":", 1)
    half = []
    for head in (
        "GET /api/v1/projects/1/events HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n",
        "PUT /api/v1/pictures/1/labels HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 900\r\n"
        'Content-Type: application/json\r\n\r\n{"boxes": [',
        "POST /api/v1/projects/1/media HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 900000\r\n"
        "Content-Type: multipart/form-data; boundary=x\r\n\r\n--x\r\n",
    ):
        half.append(socket.create_connection((host, int(port)), timeout=60))
        half[-1].sendall(head.encode())
    assert half[0].recv(12) == b"HTTP/1.1 404"
    process.send_signal(signal.SIGINT)
    rest = process.communicate(timeout=60)
    assert process.returncode == 0 and not any(rest), rest
    for connection in half:
        connection.close()


def test_a_folder_for_temporary_files_that_cannot_be_used_is_said(serve, tmp_path):
    place = tmp_path / ("long" * 30)
    place.mkdir()
    process, line = serve("--port", "0", TMPDIR=str(place))
    assert f"avocet: {place} cannot hold temporary files" in line and "Set TMPDIR" in line
    assert process.wait(timeout=60) == 1


def test_taken_port_is_said_at_once(serve):
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        process, line = serve("--port", str(port))
        assert f"avocet: port {port} on 127.0.0.1 cannot be used" in line and "--port" in line
        assert process.wait(timeout=60) == 1


@pytest.mark.long
def test_other_addresses_want_the_password(serve):
    _, line = serve("--host", "0.0.0.0", "--port", "0", AVOCET_PASSWORD="rye bread")
    port = address_in(line).rsplit(":", 1)[1]
    with pytest.raises(urllib.error.HTTPError) as refused:
        urllib.request.urlopen(f"http://127.0.0.1:{port}/api/v1/projects", timeout=60)
    assert refused.value.code == 401
    # Everything wants it: the page, files, streams.
    for path in (
        "/api/v1/projects/1/events",
        "/api/v1/pictures/1/file",
        "/assets/x.js",
        "/api/v1/openapi.json",
    ):
        with pytest.raises(urllib.error.HTTPError) as refused:
            urllib.request.urlopen(f"http://127.0.0.1:{port}{path}", timeout=60)
        assert refused.value.code == 401, path
    # A browser signs in, and out again.
    jar = urllib.request.HTTPCookieProcessor()
    browser = urllib.request.build_opener(jar)
    browser.addheaders = [("Accept", "text/html")]
    base = f"http://127.0.0.1:{port}"
    assert b'action="/sign-in"' in browser.open(base, timeout=60).read()
    browser.open(f"{base}/sign-in", b"password=rye+bread", timeout=60).read()
    with browser.open(f"{base}/api/v1/session", timeout=60) as reply:
        assert json.load(reply) == {"signed_in": True, "others": 0}
    browser.open(urllib.request.Request(f"{base}/api/v1/session", method="DELETE"), timeout=60)
    with browser.open(f"{base}/api/v1/session", timeout=60) as reply:
        assert reply.url.endswith("/sign-in")


def test_unwritable_data_folder_is_said(serve, tmp_path):
    (tmp_path / "file").write_text("a file, not a folder")
    process, line = serve("--port", "0", "--data", str(tmp_path / "file" / "inside"))
    assert line.startswith("avocet: the data folder") and "inside cannot be opened: Not a directory" in line
    assert process.wait(timeout=60) == 1
