"""Files made to harm: each is refused plainly, at once, and takes neither memory nor the next file along."""

import bz2
import gzip
import io
import os
import resource
import struct
import subprocess
import sys
import tarfile
import time
import zipfile
import zlib

import numpy as np
import pytest
from PIL import Image

from avocet.archives import can_be_opened, open_archive
from avocet.core.errors import InputError
from avocet.formats.files import LabelFiles
from avocet.formats.json_lines import read_json_lines
from avocet.formats.voc import read_voc
from avocet.media.clip_writer import ClipWriter
from avocet.media.clips import clip_info, read_frames
from avocet.media.pictures import LARGEST_PIXELS, encode_jpeg

MEASURED = """
import resource, sys
from pathlib import Path
from avocet.core.errors import InputError
from avocet.media import cropping, pictures
before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
try:
    {function}(Path(sys.argv[1]){more})
    said = "read"
except InputError as error:
    said = str(error)
print((resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) // 1024, said)
"""


def taken_by(path, function="pictures.read_picture", more=""):
    """Megabytes that a process of its own took to read a picture, and what it said."""
    code = MEASURED.format(function=function, more=more)
    told = subprocess.run(
        [sys.executable, "-c", code, path], capture_output=True, text=True, check=True
    ).stdout
    megabytes, said = told.strip().split(" ", 1)
    return int(megabytes), said


def png(path, width, height, bits=8, kind=2, data=b""):
    def chunk(name, content):
        return (
            struct.pack(">I", len(content)) + name + content + struct.pack(">I", zlib.crc32(name + content))
        )

    head = struct.pack(">IIBBBBB", width, height, bits, kind, 0, 0, 0)
    path.write_bytes(b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", data) + chunk(b"IEND", b""))
    return path


class TestPictures:
    @pytest.mark.parametrize(
        ("width", "height", "bits", "kind"), [(60_000, 60_000, 8, 2), (12_240, 12_240, 16, 6)]
    )
    @pytest.mark.parametrize("function", ["read_picture", "picture_size"])
    def test_one_that_is_too_large_is_refused_by_its_header(
        self, tmp_path, width, height, bits, kind, function
    ):
        row = bytes(1 + width * (bits // 8) * {2: 3, 6: 4}[kind])
        path = png(tmp_path / "huge.png", width, height, bits, kind, zlib.compress(row * 200, 9))
        assert path.stat().st_size < 1_000_000
        megabytes, said = taken_by(path, f"pictures.{function}")
        assert megabytes < 50 and "huge.png" in said and "at most 105 million are read" in said

    @pytest.mark.long
    @pytest.mark.slow
    def test_the_largest_of_ordinary_cameras_takes_less_than_a_gigabyte(self, tmp_path):
        width, height = 11_648, 8_736
        assert 100_000_000 < width * height < LARGEST_PIXELS
        exif = Image.Exif()
        exif[0x0112] = 1
        small = np.random.default_rng(0).integers(0, 255, (height // 16, width // 16, 3), dtype=np.uint8)
        path = tmp_path / "large.jpg"
        Image.fromarray(small).resize((width, height)).save(path, quality=80, exif=exif)
        megabytes, said = taken_by(path)
        assert said == "read" and megabytes < 1000
        # Thumbnails and crops are decoded small.
        megabytes, said = taken_by(path, "pictures.small_picture", ", 320")
        assert said == "read" and megabytes < 100

    def test_a_crop_far_outside_costs_nothing(self, tmp_path):
        path = tmp_path / "a.png"
        Image.new("RGB", (60, 40)).save(path)
        megabytes, said = taken_by(path, "cropping.crop_picture", ", (-3e7, -3e7, 3e7, 3e7), 160")
        assert megabytes < 20 and said == "read"


class TestClips:
    def test_a_script_that_includes_itself_is_no_clip(self, tmp_path):
        path = tmp_path / "self.mp4"
        path.write_text("ffconcat version 1.0\nfile self.mp4\n")
        with pytest.raises(InputError, match=r"self\.mp4 is not a clip that can be read: neither MP4"):
            clip_info(path)

    @pytest.mark.parametrize("kind", ["GIF", "JPEG", "PNG", "playlist", "text"])
    def test_what_is_no_container_is_refused_whatever_its_name(self, tmp_path, kind):
        path = tmp_path / "a.mp4"
        if kind in ("GIF", "JPEG", "PNG"):
            Image.new("RGB", (64, 64)).save(path, kind)
        else:
            path.write_text("#EXTM3U\n#EXTINF:1,\nfile:///etc/passwd\n" if kind == "playlist" else "hello")
        with pytest.raises(InputError, match=r"a\.mp4 is not a clip"):
            list(read_frames(path))

    @pytest.mark.parametrize("scale", [1, 0x7FFFFFFF])
    def test_an_absurd_rate_neither_hangs_nor_is_believed(self, tmp_path, scale):
        path = tmp_path / "a.mp4"
        with ClipWriter(path, 64, 48, 10) as writer:
            for _ in range(8):
                writer.write(np.zeros((48, 64, 3), np.uint8))
        content = bytearray(path.read_bytes())
        place = content.index(b"mdhd") + 16
        content[place : place + 4] = struct.pack(">I", scale)
        path.write_bytes(content)
        begun = time.monotonic()
        try:
            assert 0 <= clip_info(path).seconds <= 100 * 24 * 3600
            assert len(list(read_frames(path, 3.0))) <= 8
        except InputError as error:
            assert "a.mp4" in str(error)
        assert time.monotonic() - begun < 5

    def test_a_clip_can_be_left_in_the_midst_of_frames_that_nobody_wants(self, tmp_path):
        path = tmp_path / "a.mp4"
        with ClipWriter(path, 64, 48, 10) as writer:
            for _ in range(20):
                writer.write(np.zeros((48, 64, 3), np.uint8))
        looked = []

        def look():
            looked.append(1)
            if len(looked) == 5:
                raise KeyError

        with pytest.raises(KeyError):
            list(read_frames(path, 0.1, looked_at=look))


def tar_of(name, size, pax=None):
    held = io.BytesIO()
    with tarfile.open(fileobj=held, mode="w", format=tarfile.PAX_FORMAT) as archive:
        member = tarfile.TarInfo(name)
        member.size, member.pax_headers = size, pax or {}
        archive.addfile(member, io.BytesIO(bytes(size)))
    return held.getvalue()


class TestArchives:
    @pytest.mark.parametrize(("suffix", "pack"), [(".tar.gz", gzip.compress), (".tar", bz2.compress)])
    def test_a_small_tar_that_swells_is_left_at_once(self, tmp_path, suffix, pack):
        path = tmp_path / f"bomb{suffix}"
        path.write_bytes(pack(tar_of("a.jpg", 300_000_000)))
        assert path.stat().st_size < 1_000_000
        begun = time.monotonic()
        with (
            pytest.raises(InputError, match=r"bomb.* would swell to more than"),
            open_archive(path) as archive,
        ):
            archive.read("a.jpg")
        assert time.monotonic() - begun < 20

    def test_a_header_as_long_as_it_likes(self, tmp_path):
        path = tmp_path / "bomb.tar"
        path.write_bytes(bz2.compress(tar_of("a.jpg", 10, {"comment": "x" * 30_000_000})))
        begun = time.monotonic()
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        with pytest.raises(InputError, match=r"bomb\.tar"), open_archive(path) as archive:
            assert archive.entries
        assert time.monotonic() - begun < 10
        assert (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) // 1024 < 100
        assert not can_be_opened(path)

    @pytest.mark.parametrize("seed", range(40))
    def test_damage_anywhere_is_said(self, tmp_path, seed):
        random = np.random.default_rng(seed)
        packed = io.BytesIO()
        method = [zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED, zipfile.ZIP_BZIP2, zipfile.ZIP_LZMA][seed % 4]
        picture = encode_jpeg(random.integers(0, 255, (40, 60, 3), dtype=np.uint8))
        if seed % 5 < 3:
            with zipfile.ZipFile(packed, "w", method) as archive:
                archive.writestr("a.jpg", picture)
                archive.writestr("b/c.txt", "0 0.5 0.5 0.1 0.1\n" * 50)
            content = bytearray(packed.getvalue())
        else:
            content = bytearray(gzip.compress(tar_of("a.jpg", 5000)))
        for place in random.integers(0, len(content), 3).tolist():
            content[place] = int(random.integers(256))
        path = tmp_path / ("a.zip" if seed % 5 < 3 else "a.tar.gz")
        path.write_bytes(content)
        try:
            with open_archive(path) as archive:
                for entry in archive.entries:
                    archive.read(entry.name)
        except InputError as error:
            assert "a.zip" in str(error) or "a.tar.gz" in str(error)


class TestLabels:
    def test_fifty_thousand_faulty_objects_are_read_in_a_breath(self, tmp_path):
        faulty = "<object><name>roll</name></object>\n" * 50_000
        path = tmp_path / "a.xml"
        path.write_text(f"<annotation><filename>a.jpg</filename>\n{faulty}</annotation>")
        begun = time.monotonic()
        record = read_voc(LabelFiles.of_path(path))
        assert time.monotonic() - begun < 10
        assert len(record.faults) == 50_000 and record.faults[-1].startswith(
            "a.xml, line 50001: object 50000"
        )

    @pytest.mark.parametrize(
        "line", ["[" * 100_000, "9" * 5000, '{"picture": "a.jpg", "width": ' + "9" * 5000 + "}"]
    )
    def test_lines_that_no_reader_likes_are_faults(self, tmp_path, line):
        path = tmp_path / "a.jsonl"
        path.write_text(line + "\n")
        assert len(read_json_lines(LabelFiles.of_path(path)).faults) == 1

    def test_names_that_no_text_can_hold_are_escaped(self, tmp_path):
        path = tmp_path / "a.jsonl"
        path.write_text(
            '{"picture": "a\\udcff.jpg", "width": 9, "height": 9, "boxes": '
            '[{"class": "roll\\ud800", "corners": [1, 1, 5, 5], "attributes": {"note\\ud800": "\\ud800"}}]}\n'
        )
        record = read_json_lines(LabelFiles.of_path(path))
        assert [each.name for each in record.pictures] in ([r"a\xff.jpg"], [])
        for text in (*record.class_names, *record.faults):
            text.encode()
        for picture in record.pictures:
            for box in picture.boxes:
                assert all(name.encode() and str(value).encode() for name, value in box.attributes.items())


@pytest.mark.skipif(not hasattr(os, "mkfifo"), reason="no pipes here")
@pytest.mark.parametrize("command", ["import", "detect", "evaluate"])
def test_a_pipe_is_no_file(tmp_path, command):
    os.mkfifo(tmp_path / "a.json")
    os.mkfifo(tmp_path / "a.jpg")
    arguments = {
        "import": ["import", tmp_path / "a.json", "--project", "belt", "--data", tmp_path / "d"],
        "detect": ["detect", tmp_path / "a.jpg", "--model", tmp_path / "a.jpg", "--out", tmp_path / "o"],
        "evaluate": ["evaluate", tmp_path / "a.json", "--model", tmp_path / "a.jpg"],
    }[command]
    ended = subprocess.run(
        [sys.executable, "-m", "avocet.cli.main", *map(str, arguments)],
        capture_output=True,
        text=True,
        timeout=60,
    )
    assert ended.returncode in (1, 2) and "Traceback" not in ended.stderr


def test_a_data_folder_with_a_broken_database_is_said(tmp_path):
    (tmp_path / "avocet.sqlite").write_bytes(b"no database " * 1000)
    command = [
        sys.executable,
        "-m",
        "avocet.cli.main",
        "export",
        "--project",
        "belt",
        "--data",
        str(tmp_path),
        "--out",
        str(tmp_path / "o.json"),
    ]
    ended = subprocess.run(command, capture_output=True, text=True, timeout=60)
    assert ended.returncode in (1, 2) and "Traceback" not in ended.stderr
    assert "cannot be opened: file is not a database" in ended.stderr or ended.returncode == 2
