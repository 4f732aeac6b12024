"""Copies of clips as they really are: frames at odd times, a late beginning, pixels that are not square, two tracks of sound."""

from fractions import Fraction

import av
import numpy as np
import pytest

from avocet.media.clip_writer import ClipWriter
from avocet.media.clips import clip_info, frame_at, read_frames
from avocet.media.frames import FrameReader, index_frames

TIMES = [1.5, 1.55, 1.6, 2.9, 3.0, 3.04, 3.5, 4.5]


def write_odd(path, times=TIMES, aspect=None, tracks=0, size=(64, 48), suffix_format=None):
    """Frames of rising brightness at given times."""
    with av.open(str(path), "w", format=suffix_format) as container:
        video = container.add_stream("mpeg4" if str(path).endswith(".avi") else "libx264", rate=25)
        video.width, video.height, video.pix_fmt = *size, "yuv420p"
        if not str(path).endswith(".avi"):
            video.codec_context.time_base = Fraction(1, 1000)
        if aspect:
            video.codec_context.sample_aspect_ratio = aspect
        sounds = [container.add_stream("aac", rate=44100) for _ in range(tracks)]
        for number, seconds in enumerate(times):
            pixels = np.full((size[1], size[0], 3), 20 + 25 * (number % 9), np.uint8)
            frame = av.VideoFrame.from_ndarray(pixels, format="rgb24")
            if not str(path).endswith(".avi"):
                frame.pts, frame.time_base = round(seconds * 1000), Fraction(1, 1000)
            container.mux(video.encode(frame))
        container.mux(video.encode(None))
        for pitch, sound in enumerate(sounds, start=1):
            length = int(44100 * times[-1])
            tone = 0.3 * np.sin(2 * np.pi * 220 * pitch * np.arange(length) / 44100)
            for start in range(0, length - 1024, 1024):
                heard = av.AudioFrame.from_ndarray(
                    tone[None, start : start + 1024].astype(np.float32), format="fltp", layout="mono"
                )
                heard.sample_rate, heard.pts = 44100, start
                container.mux(sound.encode(heard))
            container.mux(sound.encode(None))
    return path


def copied(source, path):
    frames = list(read_frames(source))
    height, width = frames[0].pixels.shape[:2]
    with ClipWriter(path, width, height, clip_info(source).rate, source, quick=True) as writer:
        for frame in frames:
            writer.write(frame.pixels, frame.seconds)
    return path


@pytest.mark.parametrize("suffix", [".mp4", ".mkv"])
def test_frames_are_shown_when_the_clip_shows_them(tmp_path, suffix):
    source = write_odd(tmp_path / f"odd{suffix}")
    given = [(each.seconds, each.pixels.mean()) for each in read_frames(source)]
    made = [(each.seconds, each.pixels.mean()) for each in read_frames(copied(source, tmp_path / "copy.mp4"))]
    np.testing.assert_allclose([each for each, _ in given], TIMES, atol=1e-3)
    np.testing.assert_allclose(np.array(made)[:, 0], np.array(given)[:, 0], atol=1e-3)
    np.testing.assert_allclose(np.array(made)[:, 1], np.array(given)[:, 1], atol=4)
    # At every moment the copy shows what the clip does.
    for moment in (1.52, 2.0, 2.95, 3.2, 4.6):
        shown = [frame_at(each, moment).mean() for each in (source, tmp_path / "copy.mp4")]
        assert shown[0] == pytest.approx(shown[1], abs=4)


def test_all_tracks_of_sound_go_along_and_stay_with_the_picture(tmp_path):
    copy = copied(write_odd(tmp_path / "loud.mp4", tracks=2), tmp_path / "copy.mp4")
    heard = []
    for path in (tmp_path / "loud.mp4", copy):
        with av.open(str(path)) as container:
            heard.append(
                [
                    np.concatenate(
                        [frame.to_ndarray()[0] for frame in container_of(path).decode(audio=track)]
                    )
                    for track in range(len(container.streams.audio))
                ]
            )
    assert [len(each) for each in heard] == [2, 2]
    for before, after in zip(*heard, strict=True):
        length = min(len(before), len(after))
        assert length > 44100 * 4
        np.testing.assert_allclose(before[:length], after[:length], atol=1e-5)


def container_of(path):
    return av.open(str(path))


@pytest.mark.parametrize(("aspect", "size"), [(Fraction(2), (128, 48)), (Fraction(1, 2), (64, 96))])
def test_pixels_that_are_not_square_are_shown_as_players_show_them(tmp_path, aspect, size):
    source = write_odd(tmp_path / "wide.mp4", aspect=aspect)
    info = clip_info(source)
    assert (info.width, info.height) == size
    index = index_frames(source)
    assert (index.width, index.height) == size
    with FrameReader(source, index) as reader:
        assert reader.frame(0).shape == next(read_frames(source)).pixels.shape == (size[1], size[0], 3)
    copy = clip_info(copied(source, tmp_path / "copy.mp4"))
    assert (copy.width, copy.height) == size


@pytest.mark.parametrize("suffix", [".mkv", ".avi"])
def test_a_clip_that_was_cut_off_is_told_of(tmp_path, suffix):
    random = np.random.default_rng(0)
    path = tmp_path / f"whole{suffix}"
    with av.open(str(path), "w") as container:
        video = container.add_stream("mpeg4", rate=25)
        video.width, video.height, video.pix_fmt = 64, 48, "yuv420p"
        for _ in range(250):
            pixels = random.integers(0, 255, (48, 64, 3), dtype=np.uint8)
            container.mux(video.encode(av.VideoFrame.from_ndarray(pixels, format="rgb24")))
        container.mux(video.encode(None))
    said = []
    assert len(list(read_frames(path, damage=said.append))) == 250 and said == []
    content = path.read_bytes()
    cut = tmp_path / f"cut{suffix}"
    cut.write_bytes(content[: len(content) // 2])
    frames = list(read_frames(cut, damage=said.append))
    assert 90 < len(frames) < 160
    assert any("cut off" in each and "10.0 s" in each for each in said), said
