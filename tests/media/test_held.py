"""Frames that are scaled before their pixels are made: nearly what comes of the pixels, and the same through every reader."""

import av
import numpy as np
import pytest
from PIL import Image

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


@pytest.mark.slow
@pytest.mark.parametrize("size", [(384, 216), (417, 235), (960, 540), (1000, 700)])
def test_a_frame_is_scaled_as_its_pixels_are(clip, size):
    for frame in read_frames(clip):
        small = frame.held.scaled(*size)
        assert small.shape == (size[1], size[0], 3) and small.dtype == np.uint8
        expected = np.asarray(Image.fromarray(frame.pixels).resize(size, Image.Resampling.BILINEAR))
        apart = np.abs(small.astype(int) - expected)
        assert apart.mean() < 2 and np.percentile(apart, 99) < 10, size


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
    height, width = frame.shape[0] // 3, frame.shape[1] // 3
    small = frame.scaled(width, height)
    assert small.shape == (height, width, 3)
    expected = np.asarray(Image.fromarray(frame.pixels).resize((width, height), Image.Resampling.BILINEAR))
    assert np.abs(small.astype(int) - expected).mean() < 2


def test_whoever_reads_it_a_frame_is_the_same(clip):
    with FrameReader(clip, index_frames(clip)) as reader:
        for frame in read_frames(clip):
            other = reader.readable(frame.number)
            assert np.array_equal(other.scaled(384, 216), frame.held.scaled(384, 216))
            assert np.array_equal(other.pixels, frame.pixels)
        assert reader.readable(8) is None
