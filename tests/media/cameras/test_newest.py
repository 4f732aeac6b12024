"""The newest frame of a stream, however slow whoever decodes it or looks at it is; ages are read from the pixels."""

import threading
import time
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from types import SimpleNamespace

import numpy as np
import pytest

from avocet.media.cameras.live import Camera
from avocet.media.cameras.newest import FAR_BEHIND, LiveFrame, NewestFrames
from avocet.media.pictures import encode_jpeg
from tests.waiting import wait_for

BITS = 12


def numbered(number, height=2160, width=3840):
    """A large picture that tells its number by stripes, as no decoder mistakes them."""
    pixels = np.random.default_rng(number % 4).integers(0, 60, (height, width, 3), dtype=np.uint8)
    for bit in range(BITS):
        pixels[:64, 64 * bit : 64 * bit + 64] = 255 if number >> bit & 1 else 0
    return pixels


def number_on(pixels):
    return sum((1 << bit) * bool(pixels[32, 64 * bit + 32, 0] > 127) for bit in range(BITS))


@contextmanager
def serving(rate):
    """A camera that sends a large JPEG at a rate, whether or not anybody keeps up; yields its address and when each was sent."""
    blanks = [encode_jpeg(numbered(number), 80) for number in range(40)]
    sent, ending = {}, threading.Event()

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self):
            self.send_response(200)
            self.send_header("Content-Type", "multipart/x-mixed-replace; boundary=b")
            self.end_headers()
            begun, number = time.monotonic(), 0
            while not ending.is_set():
                content = blanks[number % len(blanks)]
                sent[number] = time.time()
                try:
                    self.wfile.write(
                        b"--b\r\nContent-Type: image/jpeg\r\nContent-Length: %d\r\n\r\n" % len(content)
                    )
                    self.wfile.write(content + b"\r\n")
                except OSError:
                    return
                number += 1
                time.sleep(max(0.0, begun + number / rate - time.monotonic()))

        def log_message(self, *_):
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_port}/", sent
    finally:
        ending.set()
        server.shutdown()


@pytest.mark.slow
@pytest.mark.long
def test_a_camera_quicker_than_its_decoding_is_seen_as_it_is_now():
    """Frames of 8 million pixels, thirty a second: to decode each takes longer than the next one takes to come."""
    with serving(30) as (address, sent):
        camera = Camera(address)
        try:
            number, ages, told = 0, [], []
            wait_for(lambda: camera.newest(0, 5), "a frame")
            ends = time.monotonic() + 8
            while time.monotonic() < ends:
                frame = camera.newest(number, 5)
                assert frame is not None
                number = frame.number
                shown, now = number_on(frame.pixels), time.time()
                # Of those that look the same the last one that was sent before it came.
                when = max(at for each, at in list(sent.items()) if each % 40 == shown and at <= frame.at)
                ages.append(now - when)
                told.append(now - frame.at)
                time.sleep(0.2)
        finally:
            camera.close()
    assert len(ages) > 8 and np.median(ages) < 0.6 and max(ages[1:]) < 1.5, ages
    # What is told of a frame is as old as it is, from when its bytes were there.
    assert np.abs(np.subtract(ages, told)).max() < 0.5


class SlowPacket:
    """A packet that takes its time to be decoded; frames that no other needs are passed over when that is asked."""

    def __init__(self, stream, number):
        self.stream, self._number = stream, number
        self.is_keyframe = number % 15 == 0

    def decode(self):
        if self.stream.codec_context.skip_frame == "NONREF" and self._number % 3 == 2:
            return []
        time.sleep(self.stream.seconds)
        return [SimpleNamespace(width=64, height=48, number=self._number)]


@pytest.mark.slow
@pytest.mark.parametrize(("seconds", "most"), [(0.001, 0.2), (0.03, 1.0), (0.06, FAR_BEHIND + 1.0)])
def test_where_frames_need_one_another_it_keeps_up(seconds, most):
    """Fifty packets a second; decoded at once, in more than the time there is, and in three times as much."""
    context = SimpleNamespace(codec=SimpleNamespace(intra_only=False), skip_frame="DEFAULT", name="h264")
    stream = SimpleNamespace(codec_context=context, seconds=seconds)
    frames, came = NewestFrames(), {}

    def feed():
        for number in range(250):
            came[number] = time.time()
            frames.arrived(SlowPacket(stream, number))
            time.sleep(0.02)

    ages = []
    with frames.of(stream):
        feeding = threading.Thread(target=feed)
        feeding.start()
        last = 0
        while feeding.is_alive():
            frame = frames.newest(last, 0.2)
            if frame is not None:
                last = frame.number
                ages.append(time.time() - came[frame.source.number])
                assert frame.at == pytest.approx(came[frame.source.number], abs=0.05)
        feeding.join()
    assert len(ages) > 20 and max(ages) < most, max(ages)
    assert frames.newest(last + 1, 0.01) is None


def test_pixels_are_made_when_they_are_asked_for():
    made = []
    source = SimpleNamespace(to_ndarray=lambda format: made.append(format) or np.zeros((4, 6, 3), np.uint8))
    frame = LiveFrame(1, 0.0, source)
    assert made == []
    assert frame.pixels.shape == frame.pixels.shape == (4, 6, 3) and made == ["rgb24"]
