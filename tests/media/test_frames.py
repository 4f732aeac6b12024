"""Single frames by number, against decoding from the beginning: every container, rate, order, turn and damage."""

from fractions import Fraction

import av
import numpy as np
import pytest

from avocet.core.errors import InputError
from avocet.media.clips import clip_info, read_frames
from avocet.media.frames import FrameReader, index_frames

SIDE = (96, 64)


def write(path, codec="libx264", count=50, options=None, gaps=None, turn=0):
    """A clip of which each frame is a little brighter; with gaps of other lengths where they are given."""
    with av.open(str(path), "w") as container:
        stream = container.add_stream(codec, rate=25, options=options or {})
        stream.width, stream.height, stream.pix_fmt = *SIDE, "yuv420p"
        base = Fraction(1, 1000) if gaps else Fraction(1, 25)
        stream.codec_context.time_base = base
        at = 0
        for number in range(count):
            pixels = np.full((SIDE[1], SIDE[0], 3), 5 * (number % 45) + 20, np.uint8)
            pixels[:20, :30] = 255
            frame = av.VideoFrame.from_ndarray(pixels, format="rgb24")
            frame.pts, frame.time_base = at, base
            at += gaps[number % len(gaps)] if gaps else 1
            for packet in stream.encode(frame):
                container.mux(packet)
        for packet in stream.encode():
            container.mux(packet)
    return path


KINDS = {
    "b-frames.mp4": {"options": {"bf": "3", "g": "30"}},
    "long-gop.mp4": {"options": {"bf": "2", "g": "250"}},
    "uneven.mkv": {"options": {"bf": "2"}, "gaps": [20, 90, 20]},
    "uneven.mp4": {"options": {"bf": "2"}, "gaps": [40, 40, 200]},
    "b-frames.avi": {"codec": "mpeg4", "options": {"bf": "2"}},
    "h264.avi": {"options": {"bf": "2"}},
    "vp8.webm": {"codec": "libvpx"},
}


@pytest.mark.slow
@pytest.mark.parametrize("name", KINDS)
def test_any_frame_is_the_one_that_decoding_from_the_beginning_gives(tmp_path, name):
    path = write(tmp_path / name, **KINDS[name])
    all_of_them = list(read_frames(path))
    index = index_frames(path)
    assert len(index) == len(all_of_them) == 50
    # What FFmpeg makes of the times of such a file is not even: frames are then as far apart as the header says.
    expected = (
        [number / 25 for number in range(50)]
        if name == "h264.avi"
        else [each.seconds for each in all_of_them]
    )
    assert index.seconds == pytest.approx(expected, abs=1e-3)
    order = [*np.random.default_rng(0).permutation(50).tolist(), *range(49, -1, -1), *range(50)]
    # Few are kept, so that most have to be sought.
    with FrameReader(path, index, kept=5 * 9 * SIDE[0] * SIDE[1] // 2) as reader:
        for number in order:
            assert np.array_equal(reader.frame(number), all_of_them[number].pixels), number
        for wrong in (-1, 50):
            with pytest.raises(InputError, match=f"has frames 0 to 49, not {wrong}"):
                reader.frame(wrong)


def test_a_clip_that_is_turned_is_shown_upright(tmp_path, monkeypatch):
    path = write(tmp_path / "turned.mp4")
    # No writer here sets the turn; decoded frames are given one.
    monkeypatch.setattr(av.VideoFrame, "rotation", property(lambda _: 90), raising=False)
    info = clip_info(path)
    assert (info.width, info.height) == SIDE[::-1]
    index = index_frames(path)
    assert (index.width, index.height) == SIDE[::-1]
    with FrameReader(path, index) as reader:
        assert reader.frame(3).shape == (SIDE[0], SIDE[1], 3)


def test_a_header_that_lies_about_the_length_is_not_asked(tmp_path):
    path = write(tmp_path / "whole.mkv", options={"bf": "2", "g": "10"})
    content = path.read_bytes()
    cut = tmp_path / "cut.mkv"
    cut.write_bytes(content[: len(content) * 2 // 3])
    assert clip_info(cut).frames >= 49
    index = index_frames(cut)
    assert 15 < len(index) < 45
    with FrameReader(cut, index) as reader:
        read = sum(_can(reader, number) for number in range(len(index)))
    assert read >= len(index) - 1, "the last may be half there"


@pytest.mark.slow
def test_a_damaged_stretch_is_told_and_what_is_behind_it_is_there(tmp_path):
    path = write(tmp_path / "belt.mp4", count=120, options={"bf": "0", "g": "20"})
    content = bytearray(path.read_bytes())
    middle = len(content) // 2
    content[middle : middle + 500] = np.random.default_rng(1).bytes(500)
    path.write_bytes(content)
    index = index_frames(path)
    assert len(index) == 120
    with FrameReader(path, index) as reader:
        there = [_can(reader, number) for number in range(120)]
        assert there[0] and there[-1] and not all(there)
        with pytest.raises(InputError, match=rf"belt.mp4 is damaged at frame {there.index(False)} \(\d"):
            reader.frame(there.index(False))


def test_a_clip_without_frames_is_refused(tmp_path):
    path = tmp_path / "empty.mp4"
    with av.open(str(path), "w") as container:
        stream = container.add_stream("libx264", rate=25)
        stream.width, stream.height, stream.pix_fmt = *SIDE, "yuv420p"
        for packet in stream.encode():
            container.mux(packet)
    with pytest.raises(InputError, match=r"empty\.mp4"):
        index_frames(path)


def test_whoever_looks_may_break_off(tmp_path):
    path = write(tmp_path / "b.avi", codec="mpeg4", options={"bf": "2"})

    def stop(_):
        raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        index_frames(path, looked_at=stop)


def _can(reader, number):
    try:
        reader.frame(number)
    except InputError:
        return False
    return True


def repeated(path, times, **order):
    """A clip in which the same packets come again and again: as long as one likes, made in a moment."""
    piece = write(path.with_name("piece.mp4"), **order)
    with av.open(str(piece)) as source, av.open(str(path), "w") as container:
        given = source.streams.video[0]
        stream = container.add_stream_from_template(given)
        packets = [each for each in source.demux(given) if each.dts is not None]
        step = packets[1].dts - packets[0].dts
        for turn in range(times):
            for packet in packets:
                copy = av.Packet(bytes(packet))
                copy.pts, copy.dts = (at + turn * step * len(packets) for at in (packet.pts, packet.dts))
                copy.time_base, copy.is_keyframe, copy.stream = packet.time_base, packet.is_keyframe, stream
                container.mux(copy)
    return path


@pytest.mark.slow
def test_of_an_hour_every_frame_is_found_and_the_last_is_as_near_as_the_first(tmp_path):
    path = repeated(tmp_path / "hour.mp4", times=1800, count=50, options={"bf": "0", "g": "25"})
    index = index_frames(path)
    assert len(index) == 90_000 and index.seconds[-1] == pytest.approx(3600, abs=0.1)
    with FrameReader(path, index) as reader:
        for number in (0, 44_987, 89_999, 12):
            assert abs(int(reader.frame(number)[40, 60, 0]) - (5 * (number % 50 % 45) + 20)) < 6, number


@pytest.mark.slow
def test_frames_of_4k_are_whole(tmp_path):
    path = tmp_path / "wide.mp4"
    with av.open(str(path), "w") as container:
        stream = container.add_stream("libx264", rate=25, options={"preset": "ultrafast"})
        stream.width, stream.height, stream.pix_fmt = 3840, 2160, "yuv420p"
        for number in range(6):
            pixels = np.full((2160, 3840, 3), 30 * number + 20, np.uint8)
            for packet in stream.encode(av.VideoFrame.from_ndarray(pixels, format="rgb24")):
                container.mux(packet)
        for packet in stream.encode():
            container.mux(packet)
    index = index_frames(path)
    with FrameReader(path, index) as reader:
        for number in (5, 0, 3):
            pixels = reader.frame(number)
            assert pixels.shape == (2160, 3840, 3) and abs(int(pixels[1000, 2000, 1]) - 30 * number - 20) < 4
