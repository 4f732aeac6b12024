"""`avocet doctor`: what it says of a machine and of a data folder, sound and not."""

import shutil
import sqlite3

import pytest

from avocet.cli.main import main
from avocet.store.folder import DataFolder
from avocet.store.lock import is_served, only_server
from avocet.work.health.data import look_at_data
from avocet.work.health.finding import Fitness
from avocet.work.health.machine import look_at_machine


def looked(folder):
    return {each.subject: each for each in look_at_data(folder)}


def contents(folder):
    return {path: path.read_bytes() for path in folder.root.rglob("*") if path.is_file()}


def test_a_sound_folder_is_well_and_stays_as_it_is(data, labelled, capsys):
    folder, sessions = data
    sessions.kw["bind"].dispose()
    before = contents(folder)
    found = looked(folder)
    assert {each.fitness for each in found.values()} == {Fitness.WELL}, found
    assert found["Database"].said == "whole"
    assert found["Files"].said.startswith("all of ") and "served by nobody" in found["Data folder"].said
    assert {path: content for path, content in contents(folder).items() if path in before} == before
    with pytest.raises(SystemExit) as ended:
        main(["doctor", "--data", str(folder.root), "--nonsense"])
    assert ended.value.code == 2
    main(["doctor", "--data", str(folder.root)])
    said = capsys.readouterr().out
    for word in ("Python 3.", "numpy 2.", "Processor", "free of", "Device", "Engine", "Nothing keeps it"):
        assert word in said


def test_whether_it_is_served_is_told_without_a_mark(data):
    folder, _ = data
    assert not is_served(folder)
    with only_server(folder):
        assert is_served(folder) and is_served(folder)
        assert "served by a process" in looked(folder)["Data folder"].said
    assert not is_served(folder)


def test_missing_files_are_named_and_it_ends_with_one(data, labelled, capsys):
    folder, _ = data
    (folder.root / "projects").rename(folder.root / "elsewhere")
    found = looked(folder)["Files"]
    assert found.fitness == Fitness.WRONG and "missing: " in found.said and " more" in found.said
    with pytest.raises(SystemExit) as ended:
        main(["doctor", "--data", str(folder.root)])
    assert ended.value.code == 1
    said = capsys.readouterr().out
    assert "✗ Files" in said and "1 thing marked" in said


@pytest.mark.parametrize("damage", ["rubbish", "page", "orphan", "later"])
def test_a_damaged_database_is_said(data, labelled, damage):
    folder, sessions = data
    sessions.kw["bind"].dispose()
    if damage in ("orphan", "later"):
        with sqlite3.connect(folder.database) as database:
            statement = (
                "INSERT INTO object_class (project_id, name, colour, position) VALUES (99, 'x', '#fff', 1)"
                if damage == "orphan"
                else "UPDATE alembic_version SET version_num = '9999'"
            )
            database.execute(statement)
        database.close()
    else:
        content = bytearray(folder.database.read_bytes())
        if damage == "rubbish":
            content[:200] = b"no database" * 18 + b"xx"
        else:
            content[4096 * 2 : 4096 * 40] = bytes(4096 * 38)
        folder.database.write_bytes(content)
        for name in ("-wal", "-shm"):
            folder.database.with_name(folder.database.name + name).unlink(missing_ok=True)
    found = looked(folder)["Database"]
    assert found.fitness == Fitness.WRONG, found
    assert {
        "rubbish": "cannot be read",
        "page": "damaged" if "damaged" in found.said else "cannot be read",
        "orphan": "a row of object_class belongs to none of project",
        "later": "made by a later version (9999)",
    }[damage] in found.said


def test_little_room_and_what_was_left_half_written(data, labelled, monkeypatch):
    folder, _ = data
    (folder.root / "projects" / ".belt-a1b2c3d4.jpg").write_bytes(b"half")
    monkeypatch.setattr(shutil, "disk_usage", lambda _: shutil._ntuple_diskusage(10**12, 10**12, 5 * 10**8))
    found = looked(folder)
    assert (found["Disk"].fitness, found["Disk"].said) == (Fitness.NOTE, "500 MB free where the data lies")
    assert found["Left over"].said.startswith("1 half-written")


def test_a_folder_that_is_not_there_yet(tmp_path):
    found = looked(DataFolder(tmp_path / "new"))
    assert "is not there yet" in found["Data folder"].said and "none yet" in found["Database"].said
    assert not (tmp_path / "new").exists()


def test_a_wrong_device_and_a_missing_engine_are_said(monkeypatch):
    monkeypatch.setenv("AVOCET_DEVICE", "cuda:7")
    (device,) = (each for each in look_at_machine() if each.subject == "Device")
    assert device.fitness == Fitness.WRONG and "cuda:7" in device.said
    monkeypatch.setenv("AVOCET_DEVICE", "cpu")
    real = __import__("importlib.util").util.find_spec
    monkeypatch.setattr(
        "avocet.detector.engines.opening.find_spec", lambda name: None if name == "onnx" else real(name)
    )
    (engine,) = (each for each in look_at_machine() if each.subject == "Engine")
    assert engine.said.startswith("torch finds boxes, as the package onnx is missing")
