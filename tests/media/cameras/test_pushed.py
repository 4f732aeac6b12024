"""Frames that a page pushes: the newest is given, once, and what is no frame does no harm."""

import threading
import time

import numpy as np
import pytest

from avocet.core.errors import InputError
from avocet.media.cameras import pushed
from avocet.media.cameras.pushed import LARGEST_PUSHED, NAME, PushedCamera, push_frame
from avocet.media.pictures import encode_jpeg
from tests.waiting import wait_for


def grey(value):
    return encode_jpeg(np.full((40, 60, 3), value, np.uint8))


@pytest.mark.slow
def test_the_newest_frame_is_given_once(tmp_path):
    push_frame(tmp_path, grey(10))
    camera = PushedCamera(tmp_path)
    assert camera.newest(0, 0.05) is None, "what lay there before was seen before"
    assert camera.state()[0] == "connecting"
    for value in (50, 90):
        push_frame(tmp_path, grey(value))
        time.sleep(0.01)
    first = camera.newest(0, 1)
    assert abs(int(first.pixels.mean()) - 90) < 3 and time.time() - first.at < 1
    assert camera.newest(first.number, 0.05) is None and camera.state() == ("live", "")
    later = threading.Timer(0.2, push_frame, (tmp_path, grey(130)))
    later.start()
    second = camera.newest(first.number, 5)
    assert second.number > first.number and abs(int(second.pixels.mean()) - 130) < 3
    camera.close()
    assert camera.newest(0, 5) is None, "at once"


def test_frames_that_stay_away_are_told_and_come_again(tmp_path, monkeypatch):
    monkeypatch.setattr(pushed, "STALLED", 0.2)
    camera = PushedCamera(tmp_path)
    push_frame(tmp_path, grey(50))
    assert camera.newest(0, 1)
    _, why = wait_for(lambda: camera.state() if camera.state()[0] == "stalled" else None, "a stall")
    assert "is the page that sends its camera still open" in why
    push_frame(tmp_path, grey(60))
    assert camera.newest(1, 1) and camera.state()[0] == "live" and camera.reconnects == 1


def test_what_is_no_frame(tmp_path):
    for content, said in (
        (b"", "no JPEG"),
        (b"\x89PNG....", "no JPEG"),
        (bytes(LARGEST_PUSHED + 1), "at most"),
    ):
        with pytest.raises(InputError, match=said):
            push_frame(tmp_path, content)
    assert not (tmp_path / NAME).exists()
    camera = PushedCamera(tmp_path)
    push_frame(tmp_path, b"\xff\xd8\xff and then nothing of the kind")
    assert camera.newest(0, 0.1) is None
    assert camera.state()[0] == "stalled" and "the frame" in camera.state()[1]
    push_frame(tmp_path, grey(60))
    assert camera.newest(0, 1) is not None and camera.state()[0] == "live"
