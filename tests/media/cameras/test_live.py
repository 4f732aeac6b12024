"""A camera read live: always the newest frame, lost and found again, whatever it sends."""

import time

import numpy as np
import pytest

from avocet.core.errors import InputError
from avocet.demo.belt import EndlessBelt
from avocet.demo.camera import SimulatedCamera
from avocet.media.cameras import live
from avocet.media.cameras.live import Camera, check_camera
from tests.waiting import wait_for


@pytest.fixture
def simulated():
    camera = SimulatedCamera(rate=20)
    camera.start()
    yield camera
    camera.close()


@pytest.fixture
def camera(simulated):
    made = Camera(simulated.address)
    yield made
    made.close()


@pytest.mark.slow
def test_whoever_is_slow_gets_the_newest_frame(camera):
    first = camera.newest(0, 10)
    assert first is not None and first.pixels.shape == (540, 960, 3)
    time.sleep(1.5)
    late = camera.newest(first.number, 5)
    # Had they been kept for it, the next one would be number two, and a second old.
    assert late.number > first.number + 5 and time.time() - late.at < 0.5
    assert camera.state() == ("live", "")


@pytest.mark.slow
def test_a_stalled_camera_is_told_and_comes_back(camera, simulated):
    assert camera.newest(0, 10)
    simulated.change({"stall": ["3.5"]})
    _, why = wait_for(lambda: camera.state() if camera.state()[0] == "stalled" else None, "a stall")
    assert "No frame for" in why
    number = camera.newest(0, 1).number
    assert camera.newest(number, 8) is not None and camera.state()[0] == "live" and camera.reconnects == 0


@pytest.mark.slow
@pytest.mark.parametrize("trouble", ["rubbish", "shut"])
def test_a_lost_camera_is_opened_again(camera, simulated, trouble):
    assert camera.newest(0, 10)
    simulated.change({trouble: ["1"]})
    _, why = wait_for(lambda: camera.state() if camera.state()[0] == "lost" else None, "a loss")
    assert "cannot be read" in why or "ended" in why
    number = camera.newest(0, 1).number
    simulated.change({trouble: ["0"]})
    assert camera.newest(number, 20) is not None and camera.reconnects >= 1
    wait_for(lambda: camera.state()[0] == "live", "it live again")


@pytest.mark.slow
def test_a_changed_size_goes_on(camera, simulated):
    assert camera.newest(0, 10)
    simulated.change({"width": ["640"]})
    wait_for(lambda: camera.newest(0, 1).pixels.shape == (360, 640, 3), "smaller frames")
    assert camera.reconnects == 0


@pytest.mark.slow
def test_pauses_grow_while_nobody_answers(monkeypatch):
    monkeypatch.setattr(live, "FIRST_PAUSE", 0.05)
    waited = []
    made = Camera("http://127.0.0.1:9/")
    real = made._closing.wait
    monkeypatch.setattr(
        made._closing, "wait", lambda seconds: waited.append(seconds) or real(min(seconds, 0.05))
    )
    wait_for(lambda: len(waited) >= 5, "several tries")
    assert made.state()[0] == "lost" and "cannot be read" in made.state()[1]
    made.close()
    assert waited[1:5] == [2 * each for each in waited[:4]] and max(waited) <= live.LONGEST_PAUSE


@pytest.mark.parametrize(
    "address",
    [
        "",
        "belt",
        "file:///etc/passwd",
        "ftp://x/",
        "http://",
        "/etc/passwd",
        "/dev/sda",
        "concat:a|b",
        "http://a b/",
        "gopher://x",
        "/dev/video0/../sda",
    ],
)
def test_addresses_that_no_camera_has(address):
    with pytest.raises(InputError, match="no address of a camera"):
        check_camera(address)


def test_addresses_that_cameras_have():
    for address in (
        "rtsp://10.0.0.7:554/stream1",
        "http://127.0.0.1:8330/",
        "https://camera.belt/live",
        "/dev/video0",
    ):
        assert check_camera(address) == address
    assert check_camera("HTTP://Camera.belt/Live") == "http://Camera.belt/Live"


@pytest.mark.slow
def test_the_simulated_camera_says_what_it_does_not_know(simulated):
    assert simulated.change({"drop": ["2"], "width": ["10"]}) == {
        "drop": 1.0, "stall": 0.0, "width": 64, "rubbish": False, "shut": False,
    }  # fmt: skip
    with pytest.raises(ValueError, match="not 'colour'"):
        simulated.change({"colour": ["red"]})


@pytest.mark.slow
def test_an_endless_belt_closes_its_round():
    belt = EndlessBelt(5, screens=3, speed=12.0)
    first, again = belt.frame(0), belt.frame(belt.frames)
    np.testing.assert_array_equal(first.pixels, again.pixels)
    assert belt.frames == 135
    # From frame to frame every good moves by the same way, over the seam too.
    for number in (0, 60, belt.frames - 2, belt.frames - 1):
        before, after = belt.frame(number), belt.frame(number + 1)
        whole = [box for box in before.boxes if box[1] > 20 and box[3] < 500]
        for box in whole:
            assert any(np.allclose(other - box, [0, 12, 0, 12], atol=0.01) for other in after.boxes)
    assert sum(len(belt.frame(number).boxes) for number in range(0, belt.frames, 9)) > 40
