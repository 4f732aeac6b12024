"""Labels in and out on the command line."""

import json
import zipfile

import pytest
from click.testing import CliRunner
from PIL import Image

from avocet.cli.main import avocet as commands
from avocet.core.errors import InputError
from avocet.formats.kinds import FORMATS
from avocet.store.database import open_database
from avocet.work.exchange.written import export_record
from avocet.work.labels.boxes import labels_of
from avocet.work.project.projects import project_named
from tests.listed import pictures_of


def run(*arguments, fails=None):
    done = CliRunner().invoke(commands, list(map(str, arguments)), catch_exceptions=True)
    if fails:
        assert isinstance(done.exception, InputError) and fails in str(done.exception), done.output
    else:
        assert done.exit_code == 0, (done.output, done.exception)
    return done


def boxes(data, project):
    with open_database(data / "avocet.sqlite")() as session:
        record = export_record(session, project_named(session, project).id)
    return {p.name: [(record.class_names[b.label], b.corners) for b in p.boxes] for p in record.pictures}


@pytest.mark.parametrize("key", FORMATS)
@pytest.mark.slow
def test_every_format_out_and_into_a_new_project(data, labelled, frames, tmp_path, key):
    root = data[0].root
    suffix = ".zip" if FORMATS[key].many_files else FORMATS[key].suffixes[0]
    done = run("export", tmp_path / f"labels{suffix}", "--format", key, "--project", "Belt", "--data", root)
    assert "6 pictures with" in done.output
    images = tmp_path / "images"
    images.mkdir()
    with data[1]() as session:
        for picture in pictures_of(session, labelled):
            file = data[0].picture(labelled, picture.content_hash, picture.suffix)
            (images / picture.name).write_bytes(file.read_bytes())
    done = run(
        "import", tmp_path / f"labels{suffix}", "--pictures", images, "--project", "Second", "--data", tmp_path / "d"
    )  # fmt: skip
    assert "6 pictures with" in done.output
    assert boxes(tmp_path / "d", "Second") == boxes(root, "Belt")


@pytest.mark.slow
def test_an_archive_brings_its_pictures_along(data, labelled, tmp_path):
    with data[1]() as session:
        picture = pictures_of(session, labelled)[0]
        first = labels_of(picture)["boxes"][0]["corners"]
    with zipfile.ZipFile(tmp_path / "belt.zip", "w") as opened:
        opened.write(data[0].picture(labelled, picture.content_hash, ".jpg"), "day/a.jpg")
        line = {"picture": "day/a.jpg", "boxes": [{"class": "roll", "corners": first}]}
        opened.writestr("labels.jsonl", json.dumps(line))
        opened.writestr("parts.csv", "picture,part\nday/a.jpg,test\n")
    done = run("import", tmp_path / "belt.zip", "--project", "Second", "--data", tmp_path / "d")
    assert "0 training, 0 validation, 1 test" in done.output
    assert boxes(tmp_path / "d", "Second") == {"day/a.jpg": [("roll", tuple(first))]}


def test_labels_for_pictures_that_are_in_the_project(data, labelled, tmp_path):
    labels = tmp_path / "labels.jsonl"
    labels.write_text('{"picture": "still-0.jpg", "boxes": []}\n{"picture": "gone.jpg"}\n')
    arguments = ("import", labels, "--project", "Belt", "--data", data[0].root)
    run(*arguments, fails="1 fault found and nothing done")
    run(*arguments, "--skip-faulty", fails="none of its 2 pictures is in the project without labels")


def test_what_is_lost_is_said_and_wrong_names_are_refused(data, labelled, tmp_path):
    where = ("--project", "Belt", "--data", data[0].root)
    with data[1].begin() as session:
        box = pictures_of(session, labelled)[0].boxes[0]
        box.attributes, box.track = {"burnt": True}, 4
    done = run("export", tmp_path / "labels.csv", "--format", "csv", *where)
    assert "attribute 'burnt' of 1 box" in done.output and "track" not in done.output
    assert "track" in (tmp_path / "labels.csv").read_text().splitlines()[0]
    done = run("export", tmp_path / "labels.zip", "--format", "centre-text", *where)
    assert "track of 1 box" in done.output
    run(
        "export", tmp_path / "labels.json", "--format", "voc", *where, fails="ends with .zip, not labels.json"
    )
    run(
        "export",
        tmp_path / "x.json",
        "--project",
        "Belt",
        "--data",
        tmp_path / "none",
        fails="no data folder",
    )
    run("import", tmp_path / "gone.json", *where, fails="there is no such file")
    (tmp_path / "notes.md").write_text("x")
    run("import", tmp_path / "notes.md", *where, fails="holds no annotation file that is known")


@pytest.mark.slow
def test_a_table_whose_columns_classes_and_unit_are_said(data, labelled, tmp_path):
    root = data[0].root
    table = tmp_path / "labels.csv"
    table.write_text("Foto;Sorte;l;o;b;h\nstill-0.jpg;bun;0.25;0.5;0.25;0.5\nstill-0.jpg;tray;0;0;1;1\n")
    told = [table, "--project", "Belt", "--data", root]
    columns = [
        f"--column={what}" for what in ("picture=Foto", "class=Sorte", "x=l", "y=o", "width=b", "height=h")
    ]
    run("import", *told, fails="say with --column where the boxes are; it has Foto, Sorte, l, o, b, h")
    run("import", *told, *columns[:3], fails="say with --column which one is y")
    run("import", *told, "--column", "left=l", fails="there is no 'left'; there are box, class")
    run("import", *told, "--column", "x", fails="--column 'x' is not built like WHAT=COLUMN")
    run("import", *told, *columns[:-1], "--column", "height=hoch", fails="labels.csv has no column 'hoch'")
    run("import", *told, *columns, "--map", "bagel=roll", fails="has no class 'bagel'; it has bun, tray")
    was = boxes(root, "Belt")["still-0.jpg"]
    done = run("import", *told, *columns, fails="none of its 1 pictures is in the project without labels")
    assert boxes(root, "Belt")["still-0.jpg"] == was
    done = run("import", *told, *columns, "--replace", "--map", "bun=roll", "--map", "tray=")
    assert "1 picture of 'Belt' got 1 box" in done.output and "labels already" not in done.output
    assert boxes(root, "Belt")["still-0.jpg"] == [("roll", (240, 270, 480, 540))]
    run("import", *told, *columns, "--pixels", "--replace", "--map", "tray=roll")
    assert boxes(root, "Belt")["still-0.jpg"] == [("bun", (0.25, 0.5, 0.5, 1)), ("roll", (0, 0, 1, 1))]
    table.write_text(table.read_text() + "still-0.jpg;bun;10;20;30;40\n")
    run("import", *told, *columns, fails="say --pixels or --fractions")
    run("import", tmp_path / "a.json", *told[1:], "--fractions", fails="there is no such file")
    (tmp_path / "a.json").write_text("{}")
    run("import", tmp_path / "a.json", *told[1:], "--fractions", fails="are for CSV files only")


def test_pictures_that_are_labelled_get_others_only_when_that_is_said(data, labelled, frames, tmp_path):
    root = data[0].root
    images = tmp_path / "images"
    images.mkdir()
    with data[1]() as session:
        picture = pictures_of(session, labelled)[0]
        (images / "still-0.jpg").write_bytes(
            data[0].picture(labelled, picture.content_hash, ".jpg").read_bytes()
        )
    labels = tmp_path / "labels.jsonl"
    labels.write_text(
        json.dumps({"picture": "still-0.jpg", "boxes": [{"class": "bun", "corners": [1, 2, 30, 40]}]})
    )
    told = ["import", labels, "--pictures", images, "--project", "Belt", "--data", root]
    was = boxes(root, "Belt")
    assert "1 picture had labels already, left as they were" in run(*told).output
    assert boxes(root, "Belt") == was
    assert "1 picture with 1 box" in run(*told, "--replace", "--map", "bun=roll").output
    assert boxes(root, "Belt") == was | {"still-0.jpg": [("roll", (1, 2, 30, 40))]}


def test_values_that_an_attribute_does_not_hold_stay_out(data, labelled, tmp_path):
    root = data[0].root
    images = tmp_path / "images"
    images.mkdir()
    Image.new("RGB", (96, 54), "tan").save(images / "new.png")
    labels = tmp_path / "labels.jsonl"
    box = {"class": "roll", "corners": [1, 2, 30, 40], "attributes": {"ignore": "maybe", "occluded": True}}
    labels.write_text(json.dumps({"picture": "new.png", "boxes": [box]}))
    told = ["import", labels, "--pictures", images, "--data", root, "--project"]
    done = run(*told, "Belt", fails="1 fault found and nothing done")
    assert "taken without 'maybe' as 'ignore', which is set or not" in done.stderr
    assert "new.png" not in boxes(root, "Belt")
    run(*told, "Belt", "--skip-faulty")
    with data[1]() as session:
        picture = pictures_of(session, labelled)[-1]
        assert labels_of(picture)["boxes"][0]["attributes"] == {"occluded": True}
