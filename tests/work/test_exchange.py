"""Annotation files in and out of a project."""

import json

import pytest
from PIL import Image

from avocet.core.errors import InputError
from avocet.formats.coco import parse_coco, read_coco, write_coco
from avocet.store.tables import PictureState
from avocet.work.exchange import export_record, import_located, locate, preview, take_over
from avocet.work.media import Filter, list_pictures
from avocet.work.progress import Silent
from avocet.work.projects import create_project
from tests.conftest import add_still, write_coco_set


def test_imported_labels_come_back_on_export(data, frames, tmp_path):
    folder, sessions = data
    truth = write_coco_set(tmp_path / "set", frames[:3], suffix=".png")
    with sessions.begin() as session:
        project_id = create_project(session, "Belt").id
    located = locate(read_coco(truth), tmp_path / "set", "truth.json")
    assert not located.problems
    counts = import_located(sessions, folder, project_id, located, Silent())
    assert counts["pictures"] == 3 and counts["boxes"] == sum(len(frame.boxes) for frame in frames[:3])
    with sessions() as session:
        assert parse_coco(write_coco(export_record(session, project_id)), "x") == read_coco(truth)
    again = import_located(sessions, folder, project_id, located, Silent())
    assert again["pictures"] == 0 and again["already_labelled"] == 3


def test_what_is_wrong_is_named(tmp_path, frames):
    truth = write_coco_set(tmp_path / "set", frames[:2])
    (tmp_path / "set" / "frame-2.jpg").unlink()
    document = json.loads(truth.read_text())
    document["images"] += [{"id": 7, "file_name": "../truth.json"}, {"id": 8, "file_name": "text.jpg"}]
    (tmp_path / "set" / "text.jpg").write_text("no picture")
    truth.write_text(json.dumps(document))
    located = locate(read_coco(truth), tmp_path / "set", "truth.json")
    assert [picture.name for picture in located.record.pictures] == ["frame-1.jpg"]
    expected = ("no picture frame-2.jpg in", "../truth.json lies outside", "text.jpg is not a JPEG")
    assert len(located.problems) == 3
    for part in expected:
        assert any(part in problem for problem in located.problems)
    with pytest.raises(InputError, match="there is no such folder"):
        locate(read_coco(truth), tmp_path / "nowhere", "truth.json")


def test_boxes_fit_the_picture_that_is_really_there(tmp_path):
    Image.new("RGB", (50, 40)).save(tmp_path / "a.png")
    record = parse_coco(
        {
            "images": [{"id": 1, "file_name": "a.png", "width": 500, "height": 400}],
            "categories": [{"id": 1, "name": "roll"}],
            "annotations": [
                {"id": 1, "image_id": 1, "category_id": 1, "bbox": [300, 300, 20, 20]},
                {"id": 2, "image_id": 1, "category_id": 1, "bbox": [40, 30, 60, 60]},
            ],
        },
        "t.json",
    )
    located = locate(record, tmp_path, "t.json")
    assert [box.corners for box in located.record.pictures[0].boxes] == [(40, 30, 50, 40)]
    assert "should have 500×400 pixels but has 50×40" in located.problems[0]
    assert "lies outside its picture of 50×40" in located.problems[1]


def test_labels_for_pictures_that_are_there(data, labelled, frames, tmp_path):
    folder, sessions = data
    with sessions.begin() as session:
        add_still(
            session,
            folder,
            labelled,
            frames[0].__class__(frames[0].pixels[::-1], frames[0].boxes[:0], [], []),
            "new.jpg",
            tmp_path,
        )
    record = parse_coco(
        {
            "images": [
                {"id": 1, "file_name": "folder/new.jpg"},
                {"id": 2, "file_name": "still-1.jpg"},
                {"id": 3, "file_name": "gone.jpg"},
            ],
            "categories": [{"id": 1, "name": "baguette"}],
            "annotations": [{"id": 1, "image_id": 1, "category_id": 1, "bbox": [10, 20, 30, 40]}],
        },
        "t.json",
    )
    with sessions() as session:
        shown = preview(session, labelled, record, "t.json")
    assert (shown.pictures, shown.boxes, shown.new_classes, shown.kept) == (
        1,
        1,
        ["baguette"],
        ["still-1.jpg"],
    )
    assert shown.problems == ["t.json: the project has no picture gone.jpg"]
    with sessions.begin() as session:
        assert take_over(session, labelled, record, "t.json") == shown
    with sessions() as session:
        new = next(p for p, _ in list_pictures(session, labelled, Filter(name="new")))
        assert new.state == PictureState.DONE and new.boxes[0].corners == [10, 20, 40, 60]
        with pytest.raises(InputError, match="none of its 3 pictures"):
            take_over(session, labelled, record, "t.json")
