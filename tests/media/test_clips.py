import av
import numpy as np
import pytest

from avocet.core.errors import InputError
from avocet.media.clip_writer import ClipWriter
from avocet.media.clips import clip_info, frame_at, frames_at, read_frames


@pytest.fixture(scope="module")
def clip(tmp_path_factory):
    """Two seconds at 10 frames a second; every frame a little brighter."""
    path = tmp_path_factory.mktemp("clip") / "belt.mp4"
    with ClipWriter(path, 64, 48, 10) as writer:
        for number in range(20):
            writer.write(np.full((48, 64, 3), 10 * number + 20, np.uint8))
    return path


def test_what_is_written_comes_back(clip):
    info = clip_info(clip)
    assert (info.width, info.height, info.rate) == (64, 48, 10) and info.seconds == pytest.approx(2, abs=0.11)
    frames = list(read_frames(clip))
    assert [frame.number for frame in frames] == list(range(20))
    for frame in frames:
        assert frame.pixels.mean() == pytest.approx(10 * frame.number + 20, abs=6)


@pytest.mark.parametrize(
    ("per_second", "expected"), [(5, list(range(0, 20, 2))), (1, [0, 10]), (0.4, [0]), (30, list(range(20)))]
)
def test_sampling_by_the_clips_own_time(clip, per_second, expected):
    assert [frame.number for frame in read_frames(clip, per_second)] == expected


def test_odd_sizes_lose_their_last_row_and_column(tmp_path):
    path = tmp_path / "odd.mp4"
    with ClipWriter(path, 33, 17, 5) as writer:
        writer.write(np.zeros((17, 33, 3), np.uint8))
    assert (clip_info(path).width, clip_info(path).height) == (32, 16)


@pytest.mark.parametrize("suffix", [".mov", ".avi", ".mkv", ".webm"])
def test_other_containers(tmp_path, suffix):
    path = tmp_path / f"belt{suffix}"
    with av.open(str(path), "w") as container:
        stream = container.add_stream("libvpx" if suffix == ".webm" else "mpeg4", rate=10)
        stream.width, stream.height, stream.pix_fmt = 64, 48, "yuv420p"
        for _ in range(5):
            for packet in stream.encode(
                av.VideoFrame.from_ndarray(np.full((48, 64, 3), 99, np.uint8), format="rgb24")
            ):
                container.mux(packet)
        for packet in stream.encode():
            container.mux(packet)
    assert len(list(read_frames(path))) == 5


def test_clip_without_video_is_named(tmp_path):
    path = tmp_path / "sound.mp4"
    with av.open(str(path), "w") as container:
        stream = container.add_stream("aac", rate=44100)
        frame = av.AudioFrame.from_ndarray(np.zeros((1, 1024), np.float32), format="fltp", layout="mono")
        frame.rate = 44100
        for packet in [*stream.encode(frame), *stream.encode()]:
            container.mux(packet)
    with pytest.raises(InputError, match=r"sound\.mp4 has no video stream"):
        clip_info(path)


@pytest.mark.parametrize(("content", "expected"), [(b"", "is empty"), (b"not a clip" * 50, "is not a clip")])
def test_unusable_files_are_named(tmp_path, content, expected):
    path = tmp_path / "bad.mp4"
    path.write_bytes(content)
    with pytest.raises(InputError, match=rf"bad\.mp4 {expected}"):
        list(read_frames(path))


def test_playlist_cannot_reach_other_files(tmp_path, clip):
    path = tmp_path / "list.mp4"
    path.write_text(f"#EXTM3U\n#EXT-X-TARGETDURATION:2\n#EXTINF:2,\n{clip}\n#EXT-X-ENDLIST\n")
    with pytest.raises(InputError):
        list(read_frames(path))


@pytest.mark.slow
def test_frames_behind_a_damaged_stretch_are_those_that_reading_gives(tmp_path):
    path = tmp_path / "belt.mp4"
    with ClipWriter(path, 64, 48, 25) as writer:
        for number in range(60):
            # Noise, so that the frames between two whole ones fill most of the file.
            writer.write(np.random.default_rng(number).integers(0, 255, (48, 64, 3), dtype=np.uint8))
    content = bytearray(path.read_bytes())
    middle = len(content) // 2
    content[middle : middle + 4000] = bytes(4000)
    path.write_bytes(content)
    told = []
    there = list(read_frames(path, damage=told.append))
    assert told and 20 < len(there) < 60
    shown = list(frames_at(path, [each.seconds for each in there]))
    alone = [frame_at(path, each.seconds) for each in there]
    # Where the damage begins a frame is half there: what decoders make of the other half differs.
    for made in (shown, alone):
        other = sum(not np.array_equal(one, each.pixels) for one, each in zip(made, there, strict=True))
        assert other <= 1
