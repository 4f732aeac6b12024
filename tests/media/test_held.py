"""Frames as a clip holds them: their pixels are made when they are asked for, and the same through every reader."""

import av
import numpy as np
import pytest

from avocet.demo.belt import MovingBelt
from avocet.media.clip_writer import ClipWriter
from avocet.media.clips import read_frames
from avocet.media.frames import FrameReader, index_frames


@pytest.fixture(scope="module")
def clip(tmp_path_factory):
    """Eight frames of the belt, 960 × 540."""
    path = tmp_path_factory.mktemp("held") / "belt.mp4"
    belt = MovingBelt(5, 8)
    with ClipWriter(path, 960, 540, 25) as writer:
        for number in range(8):
            writer.write(belt.frame(number).pixels)
    return path


def test_of_a_frame_no_pixels_are_made_before_somebody_asks(clip, monkeypatch):
    frames = list(read_frames(clip))
    monkeypatch.setattr(av.VideoFrame, "to_ndarray", None)
    assert frames[0].held.shape == (540, 960, 3)
    with pytest.raises(TypeError):
        frames[0].held.pixels  # noqa: B018


@pytest.mark.parametrize("degrees", [90, 180, 270])
def test_turned_as_its_pixels_are(clip, monkeypatch, degrees):
    monkeypatch.setattr(av.VideoFrame, "rotation", property(lambda _: degrees), raising=False)
    frame = next(read_frames(clip)).held
    assert frame.shape == frame.pixels.shape
    plain = np.asarray(frame.frame.to_ndarray(format="rgb24"))
    np.testing.assert_array_equal(frame.pixels, np.rot90(plain, degrees // 90))


def test_whoever_reads_it_a_frame_is_the_same(clip):
    with FrameReader(clip, index_frames(clip)) as reader:
        for frame in read_frames(clip):
            other = reader.readable(frame.number)
            assert np.array_equal(other.pixels, frame.pixels)
        assert reader.readable(8) is None
