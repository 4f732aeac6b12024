"""Archives from outside."""

import io
import tarfile
import zipfile

import pytest

from avocet import archives
from avocet.archives import BLOCK, open_archive
from avocet.core.errors import InputError


def zipped(place, **contents):
    path = place / "set.zip"
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as opened:
        for name, content in contents.items():
            opened.writestr(name, content)
    return path


def test_reads_zip_and_tar(tmp_path):
    path = zipped(tmp_path, **{"day/a.txt": b"roll", "b.txt": b"loaf"})
    with open_archive(path) as archive:
        assert [entry.name for entry in archive.entries] == ["day/a.txt", "b.txt"]
        assert archive.read("day/a.txt") == b"roll" and archive.faults == []
    with tarfile.open(tmp_path / "set.tar.gz", "w:gz") as opened:
        info = tarfile.TarInfo("a.txt")
        info.size = 4
        opened.addfile(info, io.BytesIO(b"roll"))
        link = tarfile.TarInfo("link.txt")
        link.type, link.linkname = tarfile.SYMTYPE, "/etc/passwd"
        opened.addfile(link)
    with open_archive(tmp_path / "set.tar.gz") as archive:
        assert archive.read("a.txt") == b"roll"
        assert archive.faults == ["set.tar.gz: 'link.txt' is no file"]


@pytest.mark.parametrize(
    "name", ["../../evil.jpg", "/etc/evil.jpg", "..\\evil.jpg", "C:\\evil.jpg", "a/../../b.jpg"]
)
def test_names_that_point_outside_are_left_alone(tmp_path, name):
    with open_archive(zipped(tmp_path, **{name: b"x", "good.jpg": b"y"})) as archive:
        assert [entry.name for entry in archive.entries] == ["good.jpg"]
        assert (
            "points outside of the archive" in archive.faults[0] and "evil" in archive.faults[0]
        ) or "b.jpg" in archive.faults[0]


@pytest.mark.slow
def test_what_swells_beyond_measure(tmp_path):
    path = zipped(tmp_path, **{"bomb.png": bytes(60_000_000), "good.txt": b"x"})
    with open_archive(path) as archive:
        assert [entry.name for entry in archive.entries] == ["good.txt"]
        assert "would swell from" in archive.faults[0]


def test_limits_of_the_whole(tmp_path, monkeypatch):
    path = zipped(tmp_path, **{"a.txt": b"x" * 50, "b.txt": b"x" * 50})
    monkeypatch.setattr(archives, "LARGEST_TOTAL", 60)
    with pytest.raises(InputError, match=r"set.zip would unpack to more than 60 bytes"), open_archive(path):
        pass
    monkeypatch.setattr(archives, "MOST_ENTRIES", 1)
    with pytest.raises(InputError, match="more than 1 files"), open_archive(path):
        pass


@pytest.mark.parametrize("suffix", [".zip", ".tar"])
def test_reading_stops_in_the_midst_of_an_entry_and_of_the_list(tmp_path, suffix):
    path = tmp_path / f"belt{suffix}"
    large = bytes(8 * BLOCK)
    if suffix == ".zip":
        with zipfile.ZipFile(path, "w") as made:
            for number in range(5):
                made.writestr(f"{number}.png", large if number == 0 else b"")
    else:
        with tarfile.open(path, "w") as made:
            for number in range(5):
                entry = tarfile.TarInfo(f"{number}.png")
                entry.size = len(large) if number == 0 else 0
                made.addfile(entry, io.BytesIO(large))
    asked = []

    class StopHere(Exception):
        pass

    def go_on(most):
        asked.append(1)
        if len(asked) > most:
            raise StopHere

    with pytest.raises(StopHere), open_archive(path, go_on=lambda: go_on(3)):
        pass
    assert len(asked) == 4, "of five entries three were listed"
    asked.clear()
    with pytest.raises(StopHere), open_archive(path, go_on=lambda: go_on(8)) as archive:
        archive.save("0.png", tmp_path / "out.png")
    assert (tmp_path / "out.png").stat().st_size == 3 * BLOCK, "of eight blocks three were written"


def test_an_entry_larger_than_it_says(tmp_path):
    with (
        open_archive(zipped(tmp_path, **{"a.txt": b"x" * 50})) as archive,
        pytest.raises(InputError, match="larger than 10"),
    ):
        archive.read("a.txt", most=10)


def test_no_archive_and_damaged_ones(tmp_path):
    path = tmp_path / "set.zip"
    path.write_bytes(b"no archive at all")
    with pytest.raises(InputError, match=r"set.zip is not a zip or tar archive"), open_archive(path):
        pass
    content = bytearray(zipped(tmp_path, **{"a.txt": bytes(range(256)) * 40}).read_bytes())
    content[60:90] = bytes(30)
    path.write_bytes(bytes(content))
    with (
        open_archive(path) as archive,
        pytest.raises(InputError, match=r"a.txt is damaged"),
    ):
        archive.read("a.txt")
    with pytest.raises(InputError, match="no such file"), open_archive(tmp_path / "gone.zip"):
        pass
