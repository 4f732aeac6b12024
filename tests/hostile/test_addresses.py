"""Addresses on a real server: many callers, a model switched and taken back under load, a kill, bad calls."""

import json
import os
import signal
import subprocess
import threading
import time
import urllib.error
import urllib.request
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import jsonschema_rs
import pytest

import avocet
from avocet.core.errors import InputError
from avocet.demo.belt import render_still
from avocet.media.pictures import encode_jpeg
from avocet.store.database import open_database
from avocet.store.folder import DataFolder
from avocet.web.call_document import CALL_PATH
from tests.conftest import fill
from tests.ready import add_trained_run
from tests.servers import address_in, servers, worker_of


def ask(url, body=None, method=None, **headers):
    """Status, headers and JSON of an answer, whatever it is."""
    request = urllib.request.Request(url, data=body, method=method, headers=headers)
    try:
        with urllib.request.urlopen(request, timeout=90) as reply:
            return reply.status, reply.headers, json.loads(reply.read())
    except urllib.error.HTTPError as error:
        return error.code, error.headers, json.loads(error.read())


@pytest.fixture(scope="module")
def served(tmp_path_factory):
    """A server with an address, two models and a key."""
    place = tmp_path_factory.mktemp("addresses")
    folder = DataFolder(place / "data")
    sessions = open_database(folder.database)
    with sessions.begin() as session:
        fill(session, folder, [render_still(number) for number in range(6)], place)
        runs = [add_trained_run(session, folder, 1, name).id for name in ("First", "Second")]
    sessions.kw["bind"].dispose()
    with servers(place / "data") as start:
        process, line = start("--port", "0")
        api = f"{address_in(line)}/api/v1"
        as_json = {"Content-Type": "application/json"}

        def send(path, body, method="POST"):
            status, _, said = ask(api + path, json.dumps(body).encode(), method, **as_json)
            assert status < 300, said
            return said

        made = send("/projects/1/addresses", {"name": "belt", "run_id": runs[0]})
        key = send(f"/addresses/{made['id']}/keys", {"name": "line 2", "per_minute": 100000})["key"]
        yield process, api, send, made["id"], runs, key


PICTURE = encode_jpeg(render_still(40).pixels)


def call(api, key, body=PICTURE, query="", kind="image/jpeg"):
    return ask(
        f"{api}/addresses/belt/detections{query}",
        body,
        "POST",
        Authorization=f"Bearer {key}",
        **{"Content-Type": kind},
    )


@pytest.mark.long
def test_curl_with_a_key(served, tmp_path):
    _, api, _, _, _, key = served
    (tmp_path / "belt.jpg").write_bytes(PICTURE)
    url = f"{api}/addresses/belt/detections"
    for how in (
        ["--data-binary", f"@{tmp_path / 'belt.jpg'}", "-H", "Content-Type: image/jpeg"],
        ["-F", f"files=@{tmp_path / 'belt.jpg'}"],
    ):
        done = subprocess.run(
            ["curl", "-sS", url, "-H", f"Authorization: Bearer {key}", *how], capture_output=True, check=True
        )
        said = json.loads(done.stdout)
        assert said["model"]["name"] in ("First", "Second") and len(said["pictures"][0]["detections"]) >= 4


def test_the_answer_is_as_the_document_says(served):
    _, api, _, _, _, key = served
    document = json.loads((Path(__file__).parents[2] / "frontend" / "openapi.json").read_text())
    operation = document["paths"][CALL_PATH]["post"]
    answer = jsonschema_rs.Draft202012Validator(
        operation["responses"]["200"]["content"]["application/json"]["schema"]
    )
    _, _, all_of_them = call(api, key)
    answer.validate(all_of_them)
    name = all_of_them["pictures"][0]["detections"][0]["class"]
    status, _, said = call(api, key, query=f"?annotated=true&minimum_score=0.2&class={name}")
    answer.validate(said)
    assert status == 200 and said["pictures"][0]["annotated_jpeg"]
    assert {each["class"] for each in said["pictures"][0]["detections"]} == {name}
    known = {each["name"] for each in operation["parameters"] if each["in"] == "query"}
    assert known == {"minimum_score", "overlap_limit", "class", "annotated"}


def test_from_a_python_program(served):
    _, api, _, _, _, key = served
    pixels = render_still(40).pixels
    belt = avocet.at_address(f"{api}/addresses/belt", key)
    found = belt.find(pixels)
    assert len(found) >= 4 and [each.score for each in found] == sorted(
        (e.score for e in found), reverse=True
    )
    only = belt.find(pixels, minimum_score=0.1, classes=[found[0].class_name])
    assert {each.class_name for each in only} == {found[0].class_name}
    with pytest.raises(InputError, match="key is missing or unknown"):
        avocet.at_address(f"{api}/addresses/belt", "guess").find(pixels)
    with pytest.raises(InputError, match="no address that begins with http"):
        avocet.at_address("file:///etc/passwd", key)


def test_bad_calls_say_what_is_wrong(served):
    _, api, send, address_id, _, key = served
    spare = send(f"/addresses/{address_id}/keys", {"name": "old", "per_minute": 60})
    revoked = send(f"/addresses/{address_id}/keys/{spare['record']['id']}", {"revoked": True}, "PATCH")
    assert revoked["revoked_at"]
    slow = send(f"/addresses/{address_id}/keys", {"name": "slow", "per_minute": 2})["key"]
    for given, status, message in (
        (call(api, ""), 401, "missing or unknown"),
        (call(api, "guess"), 401, "missing or unknown"),
        (call(api, spare["key"]), 401, "was revoked"),
        (call(api, key, b"no picture"), 422, "is not a JPEG"),
        (call(api, key, b""), 422, "no picture"),
        (call(api, key, query="?minimum_score=7"), 422, "between 0 and 1"),
        (call(api, key, query="?minimum_score=x"), 422, "no number"),
        (call(api, key, query="?colour=red"), 422, "not 'colour'"),
        (call(api, key, query="?class=brick"), 422, "does not know the class 'brick'"),
        (call(api, key, PICTURE, kind="multipart/form-data"), 422, "boundary"),
        (ask(f"{api}/addresses/nowhere/detections", PICTURE, "POST"), 404, "no address 'nowhere'"),
        (ask(f"{api}/addresses/belt/detections", None, "GET"), 405, "POST"),
    ):
        got, headers, said = given
        assert got == said["status"] == status and message in said["detail"], said
        assert headers["Content-Type"] == "application/problem+json"
    assert [call(api, slow)[0] for _ in range(3)] == [200, 200, 429]
    assert int(call(api, slow)[1]["Retry-After"]) >= 1


def test_too_large_a_call_is_refused_before_it_is_read(served):
    _, api, _, _, _, key = served
    headers = {"Authorization": f"Bearer {key}", "Content-Type": "image/jpeg", "Content-Length": "900000000"}
    import http.client
    from urllib.parse import urlsplit

    connection = http.client.HTTPConnection(urlsplit(api).netloc, timeout=20)
    connection.putrequest("POST", "/api/v1/addresses/belt/detections")
    for name, value in headers.items():
        connection.putheader(name, value)
    connection.endheaders()
    reply = connection.getresponse()
    assert reply.status == 413 and "64,000,000" in json.loads(reply.read())["detail"]


def test_switched_and_taken_back_under_load_without_a_failed_call(served):
    _, api, send, address_id, runs, key = served
    call(api, key)
    answers, over = [], threading.Event()

    def caller():
        while not over.is_set():
            status, _, said = call(api, key)
            answers.append((status, said.get("model", {}).get("name", said)))

    with ThreadPoolExecutor(8) as pool:
        for _ in range(8):
            pool.submit(caller)
        time.sleep(1)
        first = send(f"/addresses/{address_id}/models", {"run_id": runs[1]})["models"]
        time.sleep(1)
        send(f"/addresses/{address_id}/models/{first[0]['id']}/back", {})
        time.sleep(1)
        over.set()
    assert {status for status, _ in answers} == {200}, [each for each in answers if each[0] != 200][:3]
    names = [name for _, name in answers]
    assert names[0] == "First" and "Second" in names and names[-1] == "First" and len(names) > 20


def test_a_kill_loses_no_call(served):
    process, api, _, _, _, key = served
    call(api, key)
    answerer = worker_of(process.pid, "answerer")
    with ThreadPoolExecutor(12) as pool:
        asked = [pool.submit(call, api, key) for _ in range(40)]
        time.sleep(0.2)
        os.kill(answerer, signal.SIGKILL)
        statuses = [each.result()[0] for each in asked]
    assert statuses == [200] * 40


@pytest.mark.long
def test_a_thousand_at_once(served):
    """Each is answered, or told to come again; the page answers meanwhile."""
    _, api, _, address_id, _, key = served
    small = encode_jpeg(render_still(40).pixels[200:300, 200:360])
    with ThreadPoolExecutor(250) as pool:
        asked = [pool.submit(call, api, key, small) for _ in range(1000)]
        begun = time.monotonic()
        assert ask(f"{api}/projects/1")[0] == 200
        waited = time.monotonic() - begun
        statuses = [each.result()[0] for each in asked]
    assert set(statuses) <= {200, 503} and statuses.count(200) >= 250 and waited < 10
    deadline = time.monotonic() + 10
    while time.monotonic() < deadline:
        (day,) = ask(f"{api}/addresses/{address_id}/calls")[2]["days"]
        if day["outcomes"]["answered"] >= statuses.count(200):
            break
        time.sleep(0.3)
    assert day["outcomes"]["answered"] >= statuses.count(200) and day["median"] > 0
