"""Frames in planes: drawn on as pictures are, and packed with what their values mean."""

import av
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from avocet.media.clip_writer import ClipWriter
from avocet.media.clips import read_frames
from avocet.media.drawing import draw_boxes, draw_on_planes
from avocet.media.planes import BT_601, BT_709, Planes, in_planes, planes_of
from tests.conftest import examples

WIDTH, HEIGHT = 96, 64
COLOURS = ["#E8A33D", "#5FA8D3", "#1F7A4D"]
corner = st.tuples(st.integers(-20, WIDTH + 20), st.integers(-20, HEIGHT + 20))


def clip(path, kind="yuv420p", meaning=(), turned=0, size=(WIDTH, HEIGHT)):
    """A clip of noise, packed without loss."""
    generator = np.random.default_rng(4)
    with av.open(str(path), "w") as container:
        stream = container.add_stream("libx264", rate=10, options={"qp": "0"})
        stream.width, stream.height = size
        stream.pix_fmt = kind
        for name, value in meaning:
            setattr(stream.codec_context, name, value)
        for _ in range(3):
            pixels = generator.integers(0, 256, (size[1], size[0], 3), dtype=np.uint8)
            frame = av.VideoFrame.from_ndarray(pixels, format="rgb24")
            for packet in stream.encode(frame):
                container.mux(packet)
        for packet in stream.encode():
            container.mux(packet)
    return path


@examples(60)
@given(st.lists(st.tuples(corner, corner), min_size=1, max_size=3))
def test_brightness_is_that_of_the_drawn_picture(corners):
    boxes = [[*np.minimum(first, last), *np.maximum(first, last)] for first, last in corners]
    captions = [f"roll 0.9{number}" for number in range(len(boxes))]
    colours = COLOURS[: len(boxes)]
    on_black, on_white = (
        draw_boxes(np.full((HEIGHT, WIDTH, 3), value, np.uint8), boxes, captions, colours)
        for value in (0, 255)
    )
    painted = (on_black == on_white).all(axis=-1)
    before = np.random.default_rng(1).integers(16, 236, (HEIGHT * 3 // 2, WIDTH), dtype=np.uint8)
    planes = Planes(before.copy(), colorspace=5, color_range=1)
    draw_on_planes(planes, boxes, captions, colours)
    expected = np.where(painted, in_planes(on_black, BT_601, full=False)[..., 0], before[:HEIGHT])
    np.testing.assert_array_equal(planes.brightness(), expected)
    # Colour is painted wherever a pixel is, and at most a pixel beyond.
    for place, (plane, old) in enumerate(zip(planes.colours(), Planes(before, 5, 1).colours(), strict=True)):
        blocks = painted.reshape(HEIGHT // 2, 2, WIDTH // 2, 2)
        np.testing.assert_array_equal(
            plane[~blocks.any(axis=(1, 3))], old[~blocks.any(axis=(1, 3))], strict=True
        )
        whole = blocks.all(axis=(1, 3))
        corners_of = in_planes(on_black, BT_601, full=False)[..., 1 + place].reshape(
            HEIGHT // 2, 2, WIDTH // 2, 2
        )
        of_whole = corners_of.transpose(0, 2, 1, 3)[whole].reshape(-1, 4)
        assert (of_whole == plane[whole][:, None]).any(axis=1).all()


@pytest.mark.parametrize("shares, space", [(BT_601, 5), (BT_709, 1)])
@pytest.mark.parametrize("full, range_", [(False, 1), (True, 2)])
def test_colours_are_those_that_the_decoder_makes_of_them(shares, space, full, range_):
    """Written by us, turned into red, green and blue by FFmpeg."""
    colours = np.random.default_rng(2).integers(30, 226, (12, 3), dtype=np.uint8)
    made = in_planes(colours, shares, full)
    for colour, values in zip(colours, made, strict=True):
        data = np.concatenate([np.full((8, 8), values[0]), np.repeat(values[1:], 16).reshape(4, 8)])
        frame = av.VideoFrame.from_ndarray(data.astype(np.uint8), format="yuv420p")
        frame.colorspace, frame.color_range = space, range_
        again = frame.to_ndarray(format="rgb24")
        assert np.abs(again.astype(int) - colour).max() <= 4


@pytest.mark.parametrize(
    "meaning", [(), (("colorspace", 1), ("color_range", 2)), (("colorspace", 5), ("color_range", 1))]
)
def test_a_frame_comes_through_as_it_was(tmp_path, meaning):
    source = clip(tmp_path / "a.mp4", meaning=meaning)
    before = [planes_of(frame.held.frame) for frame in read_frames(source)]
    with ClipWriter(tmp_path / "b.mp4", WIDTH, HEIGHT, 10, quick=True) as writer:
        for planes in before:
            draw_on_planes(planes, [[10, 20, 50, 50]], ["roll"], ["#E8A33D"])
            writer.write_planes(planes)
    after = [frame.held.frame for frame in read_frames(tmp_path / "b.mp4")]
    assert len(after) == 3
    for old, new in zip(before, after, strict=True):
        assert (int(new.colorspace), int(new.color_range)) == (old.colorspace, old.color_range)
        assert old.colorspace == dict(meaning).get("colorspace", 2)
        gap = np.abs(planes_of(new).brightness().astype(int) - old.brightness())
        assert gap.mean() < 25  # noise, packed with loss
        assert np.abs(gap[20:22, 12:48]).mean() < 12


@pytest.mark.parametrize("kind, size", [("yuv444p", (WIDTH, HEIGHT)), ("yuv444p", (33, 17))])
def test_other_frames_are_drawn_on_as_pictures(tmp_path, kind, size):
    frame = next(read_frames(clip(tmp_path / "a.mp4", kind, size=size)))
    assert planes_of(frame.held.frame) is None and frame.pixels.shape == (size[1], size[0], 3)
