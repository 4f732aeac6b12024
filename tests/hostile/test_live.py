"""Live work on a real server: it survives the kill of its worker and the end of the server."""

import json
import os
import shutil
import signal
import urllib.error
import urllib.request

import pytest

from avocet.demo.belt import render_still
from avocet.demo.camera import SimulatedCamera
from avocet.media.pictures import encode_jpeg
from tests.hostile.conftest import belt_folder
from tests.servers import address_in, servers, worker_of
from tests.waiting import wait_for


def ask(url, body=None):
    data = None if body is None else json.dumps(body).encode()
    request = urllib.request.Request(url, data=data, headers={"Content-Type": "application/json"})
    with urllib.request.urlopen(request, timeout=30) as reply:
        return json.loads(reply.read())


@pytest.fixture
def place(tmp_path):
    belt_folder(tmp_path)
    for name in ("watched", "results"):
        (tmp_path / "shared" / name).mkdir(parents=True)
    return tmp_path


@pytest.mark.long
def test_a_watched_folder_across_a_kill_and_a_restart(place):
    watched, results = place / "shared" / "watched", place / "shared" / "results"
    content = encode_jpeg(render_still(30).pixels)

    def put(first, last):
        for number in range(first, last):
            (watched / f"{number:02d}.jpg").write_bytes(content)

    def done():
        return sorted(each.name for each in results.glob("[!.]*.json"))

    with servers(place / "data") as start:
        server, line = start("--port", "0", "--folder", str(place / "shared"))
        api = f"{address_in(line)}/api/v1"
        put(0, 5)
        body = {"run_id": 1, "watched": str(watched), "out": str(results)}
        made = ask(f"{api}/projects/1/live", body)
        wait_for(lambda: len(done()) == 5, "the first results")
        stamps = {name: (results / name).stat().st_mtime_ns for name in done()}
        os.kill(wait_for(lambda: worker_of(server.pid, "live"), "the worker"), signal.SIGKILL)
        put(5, 10)
        wait_for(lambda: len(done()) == 10, "the results after the kill")
        assert ask(f"{api}/live/{made['id']}")["job"]["state"] == "running"
        server.terminate()
        server.wait(30)
        put(10, 12)
        _, line = start("--port", "0", "--folder", str(place / "shared"))
        api = f"{address_in(line)}/api/v1"
        wait_for(lambda: len(done()) == 12, "the results after the restart")
        assert {name: (results / name).stat().st_mtime_ns for name in stamps} == stamps, "done twice"
        now = wait_for(lambda: ask(f"{api}/live/{made['id']}/now"), "what is shown")
        assert now["state"] == "live" and now["latest"]
        with pytest.raises(urllib.error.HTTPError, match="404"):
            ask(f"{api}/projects/1/live", {"run_id": 1, "watched": "/etc"})
        stopped = ask(f"{api}/live/{made['id']}/stop", {})
        wait_for(lambda: ask(f"{api}/live/{stopped['id']}")["job"]["state"] == "stopped", "it stopped")


@pytest.mark.long
def test_a_camera_goes_on_beside_other_work(place):
    camera = SimulatedCamera(rate=8)
    camera.start()
    try:
        with servers(place / "data") as start:
            _, line = start("--port", "0")
            api = f"{address_in(line)}/api/v1"
            made = ask(f"{api}/projects/1/live", {"run_id": 1, "camera": camera.address})
            wait_for(lambda: ask(f"{api}/live/{made['id']}/now")["boxes"], "boxes")
            run = ask(f"{api}/detections", {"run_id": 1, "pictures": True})
            before = ask(f"{api}/live/{made['id']}/now")["number"]
            wait_for(
                lambda: ask(f"{api}/detections/{run['id']}")["job"]["state"] == "done", "the detection run"
            )
            wait_for(lambda: ask(f"{api}/live/{made['id']}/now")["number"] > before, "newer pictures")
            assert "1 live" in ask(f"{api}/projects/1/live")["beside"]
            ask(f"{api}/live/{made['id']}/bin", {"binned": True})
            assert ask(f"{api}/projects/1/live")["live"] == []
    finally:
        camera.close()
        shutil.rmtree(place / "data", ignore_errors=True)
