import errno

import pytest

from avocet.core.errors import InputError
from avocet.files import replacing, write_text


def test_failed_write_leaves_what_was_there(tmp_path):
    path = tmp_path / "figures.json"
    write_text(path, "before")
    with pytest.raises(RuntimeError), replacing(path) as temporary:
        temporary.write_text("half of it")
        raise RuntimeError("power cut")
    assert path.read_text() == "before"
    assert list(tmp_path.iterdir()) == [path]


def test_full_disk_names_the_file(tmp_path):
    path = tmp_path / "out.csv"
    with pytest.raises(InputError, match=r"out\.csv cannot be written: No space left"), replacing(path):
        raise OSError(errno.ENOSPC, "No space left on device")
    assert not list(tmp_path.iterdir())


def test_folder_that_cannot_be_made_names_it(tmp_path):
    (tmp_path / "file").write_text("")
    with pytest.raises(InputError, match="cannot be written"):
        write_text(tmp_path / "file" / "inside.txt", "x")
