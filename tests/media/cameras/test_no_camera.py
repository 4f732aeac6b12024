"""Addresses behind which something else is than a camera: nothing but the address itself is asked."""

import threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from io import BytesIO

import pytest
from PIL import Image

from avocet.core.errors import InputError
from avocet.demo.camera import SimulatedCamera
from avocet.media.cameras.live import Camera
from avocet.media.cameras.redirects import where_it_leads
from tests.waiting import wait_for

HLS = b"#EXTM3U\n#EXT-X-TARGETDURATION:1\n" + b"#EXTINF:1,\n/list.m3u8\n" * 40
SCRIPT = b"ffconcat version 1.0\n" + b"file script\n" * 40


class Strange:
    """A server that notes what it is asked for; redirects lead where a test wants them to."""

    def __init__(self):
        self.asked, self.leads = [], {}
        strange = self

        class Handler(BaseHTTPRequestHandler):
            def log_message(self, *_):
                pass

            def do_GET(self):
                strange.asked.append(self.path)
                if self.path in strange.leads:
                    self.send_response(302)
                    self.send_header("Location", strange.leads[self.path])
                    self.end_headers()
                    return
                picture = BytesIO()
                Image.new("RGB", (64, 48), "tan").save(picture, "JPEG")
                known = {"/list.m3u8": HLS, "/script": SCRIPT, "/page": b"<html>"}
                content = known.get(self.path, picture.getvalue())
                self.send_response(200)
                self.send_header("Content-Length", str(len(content)))
                if self.path not in known:
                    self.send_header("Content-Type", "image/jpeg")
                self.end_headers()
                self.wfile.write(content)

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=self._server.serve_forever, daemon=True).start()
        self.address = f"http://127.0.0.1:{self._server.server_port}"

    def close(self):
        self._server.shutdown()
        self._server.server_close()


@pytest.fixture
def strange():
    made = Strange()
    yield made
    made.close()


@pytest.fixture
def open_camera():
    made = []

    def opened(address):
        made.append(Camera(address))
        return made[-1]

    yield opened
    for each in made:
        each.close()


def lost(camera):
    return wait_for(lambda: camera.state()[1] if camera.state()[0] == "lost" else None, "a loss")


@pytest.mark.parametrize("path", ["/list.m3u8", "/script", "/page"])
def test_lists_and_scripts_are_no_cameras(strange, open_camera, path):
    why = lost(open_camera(strange.address + path))
    assert "is no camera" in why or path == "/page"
    assert set(strange.asked) == {path} and len(strange.asked) <= 2, "what they name is never asked for"


def test_single_pictures_are_a_camera(strange, open_camera):
    camera = open_camera(strange.address + "/picture")
    first = camera.newest(0, 10)
    assert first.pixels.shape == (48, 64, 3)
    assert camera.newest(first.number, 10).number > first.number, "the next one is asked for"
    assert camera.state() == ("live", "") and camera.reconnects == 0


def test_a_camera_may_send_to_another_path_of_its_own(open_camera):
    simulated = SimulatedCamera(rate=20)
    simulated.start()
    strange = Strange()
    try:
        strange.leads = {"/": "/now", "/now": "/picture"}
        assert open_camera(strange.address + "/").newest(0, 10).pixels.shape == (48, 64, 3)
        strange.leads = {"/": simulated.address}
        assert f"sends to {simulated.address!r}" in lost(open_camera(strange.address + "/"))
    finally:
        strange.close()
        simulated.close()


def test_where_an_address_leads(strange):
    strange.leads = {"/round": "/round", "/file": "file:///etc/hostname", "/there": "/picture?x=1"}
    with_name = strange.address.replace("//", "//belt:se%20cret@")
    assert where_it_leads(with_name + "/there", 3) == with_name + "/picture?x=1"
    assert where_it_leads(strange.address + "/round", 3) == strange.address + "/round"
    assert where_it_leads("http://127.0.0.1:9/", 1) == "http://127.0.0.1:9/"
    assert where_it_leads(strange.address + "/file", 3) == strange.address + "/file"
    strange.leads = {"/away": "http://localhost:9/"}
    with pytest.raises(InputError, match="sends to 'http://localhost:9/'"):
        where_it_leads(strange.address + "/away", 3)
