"""The database: made by migrations, safe for two processes, and tidy files beside it."""

import subprocess
import sys

import pytest
from alembic import command
from alembic.config import Config
from sqlalchemy import create_engine, inspect, select, text
from sqlalchemy.exc import IntegrityError
from sqlalchemy.schema import CreateTable

from avocet.store.database import MIGRATIONS, open_database
from avocet.store.folder import DataFolder
from avocet.store.tables import Attribute, Base, Box, Picture, Project


def test_migrations_make_the_tables_of_the_models(data):
    folder, _ = data
    made = inspect(create_engine(f"sqlite:///{folder.database}"))
    assert set(made.get_table_names()) == set(Base.metadata.tables) | {"alembic_version"}
    for name, table in Base.metadata.tables.items():
        columns = {column["name"]: column for column in made.get_columns(name)}
        assert set(columns) == {column.name for column in table.columns}, str(CreateTable(table))
        for column in table.columns:
            assert columns[column.name]["nullable"] == bool(column.nullable), f"{name}.{column.name}"
        wanted = {tuple(sorted(key.column_keys)) for key in table.foreign_key_constraints}
        assert {tuple(sorted(key["constrained_columns"])) for key in made.get_foreign_keys(name)} == wanted


def test_opening_again_keeps_everything(data):
    folder, sessions = data
    with sessions.begin() as session:
        session.add(Project(name="Belt"))
    with open_database(folder.database)() as session:
        assert session.scalars(select(Project.name)).all() == ["Belt"]


def test_settings_of_every_connection(data):
    _, sessions = data
    with sessions() as session:
        assert session.scalar(text("PRAGMA journal_mode")) == "wal"
        assert session.scalar(text("PRAGMA foreign_keys")) == 1


def test_foreign_keys_hold(data, labelled):
    _, sessions = data
    with pytest.raises(IntegrityError), sessions.begin() as session:
        session.add(Box(picture_id=999, class_id=1, position=1, x1=0, y1=0, x2=1, y2=1))
    with pytest.raises(IntegrityError), sessions.begin() as session:
        session.execute(text("DELETE FROM object_class"))
    with sessions.begin() as session:
        session.delete(session.scalars(select(Picture)).first())
    with sessions() as session:
        left = set(session.scalars(select(Picture.id)))
        assert len(left) == 5 and set(session.scalars(select(Box.picture_id))) == left


def test_a_failed_change_leaves_nothing(data):
    _, sessions = data
    with pytest.raises(RuntimeError), sessions.begin() as session:
        session.add(Project(name="Half"))
        session.flush()
        raise RuntimeError("power cut")
    with sessions() as session:
        assert session.scalars(select(Project)).all() == []


ADDER = """
import sys
from pathlib import Path
from avocet.store.database import MIGRATIONS, open_database
from avocet.store.tables import Project
sessions = open_database(Path(sys.argv[1]))
for number in range(30):
    with sessions.begin() as session:
        session.add(Project(name=f"{sys.argv[2]} {number}"))
"""


@pytest.mark.slow
def test_processes_wait_for_each_other(data):
    folder, sessions = data
    running = [
        subprocess.Popen([sys.executable, "-c", ADDER, str(folder.database), name], stderr=subprocess.PIPE)
        for name in ("first", "second", "third")
    ]
    for process in running:
        _, wrong = process.communicate(timeout=60)
        assert process.returncode == 0, wrong
    with sessions() as session:
        assert len(session.scalars(select(Project)).all()) == 90


def test_every_file_lies_below_the_data_folder(tmp_path):
    folder = DataFolder(tmp_path / "data")
    places = [
        folder.database, folder.queue, folder.incoming, folder.picture(1, "ab12", ".jpg"), folder.thumbnail(1, "ab12"), folder.rendition(1, "ab12"),
        folder.clip(1, "ab12", ".mp4"), folder.snapshot(1, "ab12"), folder.run(1, 2), folder.evaluation(1, 2),
        folder.detection(1, 2), folder.detection_input(1, 2),
    ]  # fmt: skip
    assert len(set(places)) == len(places)
    for place in places:
        assert place.is_relative_to((tmp_path / "data").resolve())


@pytest.mark.slow
def test_a_project_of_the_first_tables_is_brought_up_to_date(tmp_path):
    """What was labelled before tags, attributes and changes were there is all there afterwards."""
    path = tmp_path / "old.sqlite"
    engine = create_engine(f"sqlite:///{path}")
    with engine.begin() as connection:
        config = Config()
        config.set_main_option("script_location", str(MIGRATIONS))
        config.attributes["connection"] = connection
        command.upgrade(config, "0001")
        for statement in (
            "INSERT INTO project VALUES (1, 'Belt', '2026-01-01 00:00:00')",
            "INSERT INTO object_class (id, project_id, name, colour, position) VALUES (1, 1, 'roll', '#E8A33D', 1)",
            "INSERT INTO picture (id, project_id, name, content_hash, suffix, width, height, state, revision, added_at)"
            " VALUES (1, 1, 'a.jpg', 'x', '.jpg', 90, 60, 'done', 1, '2026-01-01 00:00:00')",
            *(
                f"INSERT INTO box (picture_id, class_id, position, x1, y1, x2, y2, crowd, attributes)"
                f" VALUES (1, 1, {n}, 1, 2, 3, 4, 0, '{{}}')"
                for n in (1, 2)
            ),
        ):
            connection.execute(text(statement))
    engine.dispose()
    with open_database(path)() as session:
        picture = session.scalars(select(Picture)).one()
        assert (picture.box_count, len(picture.boxes), picture.tags) == (2, 2, [])
        assert [each.name for each in session.scalars(select(Attribute))] == ["occluded", "cut off", "ignore"]
