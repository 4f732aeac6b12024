"""Annotation files in and out of a project."""

import json

import pytest
from PIL import Image

from avocet.core.errors import InputError
from avocet.formats.coco import parse_coco, read_coco, write_coco
from avocet.formats.files import LabelFiles
from avocet.formats.kinds import FORMATS
from avocet.formats.record import RecordedBox, RecordedPicture
from avocet.store.tables import PictureState
from avocet.work.exchange.located import FolderPictures, import_located, locate
from avocet.work.exchange.project_labels import fitted, preview
from avocet.work.exchange.taking import take_over
from avocet.work.exchange.written import export_record
from avocet.work.labels.boxes import save_labels
from avocet.work.labels.changes import latest_changes
from avocet.work.labels.classes import list_classes
from avocet.work.labels.undo import undo_change
from avocet.work.pictures.listing import Filter
from avocet.work.progress import Silent, Stopped
from avocet.work.project.projects import create_project
from tests.conftest import add_still, write_coco_set
from tests.listed import pictures_of


def read(path):
    return read_coco(LabelFiles.of_path(path))


@pytest.mark.slow
def test_imported_labels_come_back_on_export(data, frames, tmp_path):
    folder, sessions = data
    truth = write_coco_set(tmp_path / "set", frames[:3], suffix=".png")
    with sessions.begin() as session:
        project_id = create_project(session, "Belt").id
    located = locate(read(truth), FolderPictures(tmp_path / "set"), "truth.json")
    assert not located.problems
    counts = import_located(sessions, folder, project_id, located, Silent())
    assert counts["pictures"] == 3 and counts["boxes"] == sum(len(frame.boxes) for frame in frames[:3])
    with sessions() as session:
        assert parse_coco(write_coco(export_record(session, project_id)), "x") == read(truth)
    again = import_located(sessions, folder, project_id, located, Silent())
    assert again["pictures"] == 0 and again["already_labelled"] == 3


def test_what_is_wrong_is_named(tmp_path, frames):
    truth = write_coco_set(tmp_path / "set", frames[:2])
    (tmp_path / "set" / "frame-2.jpg").unlink()
    document = json.loads(truth.read_text())
    document["images"] += [{"id": 7, "file_name": "../truth.json"}, {"id": 8, "file_name": "text.jpg"}]
    (tmp_path / "set" / "text.jpg").write_text("no picture")
    truth.write_text(json.dumps(document))
    located = locate(read(truth), FolderPictures(tmp_path / "set"), "truth.json")
    assert [picture.name for picture in located.record.pictures] == ["frame-1.jpg"]
    expected = ("no picture frame-2.jpg in", "no picture ../truth.json in", "text.jpg is not a JPEG")
    assert len(located.problems) == 3
    for part in expected:
        assert any(part in problem for problem in located.problems)
    with pytest.raises(InputError, match="there is no such folder"):
        FolderPictures(tmp_path / "nowhere")


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
    located = locate(record, FolderPictures(tmp_path), "t.json")
    assert [box.corners for box in located.record.pictures[0].boxes] == [(40, 30, 50, 40)]
    assert "should have 500×400 pixels but has 50×40" in located.problems[0]
    assert "lies outside its picture of 50×40" in located.problems[1]


@pytest.fixture
def fresh(data, labelled, frames, tmp_path):
    """The labelled project with one more picture, new.jpg, without labels."""
    folder, sessions = data
    turned = frames[0].__class__(frames[0].pixels[::-1], frames[0].boxes[:0], [], [])
    with sessions.begin() as session:
        add_still(session, folder, labelled, turned, "new.jpg", tmp_path)
    return labelled


def lines(*pictures):
    """JSON Lines of pictures, each given as its name and boxes of class and corners."""
    entries = [
        {"picture": name, "boxes": [{"class": label, "corners": corners} for label, corners in boxes]}
        for name, boxes in pictures
    ]
    text = "\n".join(json.dumps(entry) for entry in entries).encode()
    return LabelFiles({"new.jsonl": lambda: text}, "new.jsonl")


BOX = ("baguette", [10, 20, 40, 60])


def test_a_preview_says_all_and_changes_nothing(data, fresh):
    _, sessions = data
    files = lines(
        ("folder/new.jpg", [BOX, ("roll", [1, 1, 5, 5]), (*BOX[:1], [5, 5, 5, 9])]),
        ("still-1.jpg", [BOX]),
        ("gone.jpg", []),
    )
    with sessions() as session:
        before = export_record(session, fresh)
        shown = preview(session, fresh, files)
        ids = {each.name: each.id for each in list_classes(session, fresh)}
        assert export_record(session, fresh) == before
    assert (shown.format, shown.pictures, shown.boxes) == ("json-lines", 1, 2)
    assert shown.labelled == ["still-1.jpg"] and shown.missing == ["gone.jpg"]
    assert [(c.name, c.boxes, c.class_id) for c in shown.classes] == [
        ("baguette", 2, None),
        ("roll", 1, ids["roll"]),
    ]
    assert shown.problems == [
        "new.jsonl, line 1: box 3 of folder/new.jpg with corners [5, 5, 5, 9] has no area"
    ]


def test_taking_over_and_taking_back(data, fresh):
    _, sessions = data
    files = lines(("new.jpg", [BOX]), ("still-1.jpg", [BOX]))
    with sessions() as session:
        before = export_record(session, fresh)
    taken = take_over(sessions, fresh, files, Silent())
    assert (taken.pictures, taken.boxes) == (1, 1)
    with sessions.begin() as session:
        new = pictures_of(session, fresh, Filter(name="new"))[0]
        assert new.state == PictureState.DONE and new.boxes[0].corners == (10, 20, 40, 60)
        still = pictures_of(session, fresh, Filter(name="still-1"))[0]
        assert "baguette" in [each.name for each in list_classes(session, fresh)] and len(still.boxes) > 1
    with pytest.raises(InputError, match="none of its 2 pictures"):
        take_over(sessions, fresh, files, Silent())
    replaced = take_over(sessions, fresh, files, Silent(), replace=True)
    assert replaced.pictures == 2
    assert undo_change(sessions, fresh, replaced.change_id).pictures == 2
    assert undo_change(sessions, fresh, taken.change_id).pictures == 1
    with sessions() as session:
        assert "baguette" not in [each.name for each in list_classes(session, fresh, retired=True)]
        after = export_record(session, fresh)
        assert after.pictures == before.pictures
        assert pictures_of(session, fresh, Filter(name="new"))[0].state == PictureState.UNLABELLED


def test_classes_go_where_the_person_says(data, fresh):
    _, sessions = data
    files = lines(("new.jpg", [BOX, ("roll", [1, 1, 5, 5]), ("crumb", [2, 2, 6, 6])]))
    with sessions() as session:
        ring = next(each.id for each in list_classes(session, fresh) if each.name == "ring")
    targets = {"baguette": "long loaf", "roll": ring, "crumb": ""}
    take_over(sessions, fresh, files, Silent(), targets=targets)
    with sessions() as session:
        names = {each.id: each.name for each in list_classes(session, fresh)}
        new = pictures_of(session, fresh, Filter(name="new"))[0]
        assert [names[box.class_id] for box in new.boxes] == ["long loaf", "ring"]
        assert "crumb" not in names.values() and "baguette" not in names.values()


def test_a_picture_without_boxes_is_not_confirmed_empty(data, fresh):
    _, sessions = data
    take_over(sessions, fresh, lines(("new.jpg", [])), Silent())
    with sessions() as session:
        assert pictures_of(session, fresh, Filter(name="new"))[0].state == PictureState.DONE


def test_names_that_fit_several_pictures(data, fresh, frames, tmp_path):
    folder, sessions = data
    with sessions.begin() as session:
        for number, place in enumerate(("day", "night")):
            turned = frames[0].__class__(frames[number].pixels[:, ::-1], frames[0].boxes[:0], [], [])
            picture = add_still(session, folder, fresh, turned, "x.jpg", tmp_path)
            picture.name = f"{place}/x.jpg"
    with sessions() as session:
        shown = preview(
            session, fresh, lines(("x.jpg", [BOX]), ("day/x.jpg", [BOX]), ("new.jpg", []), ("new.png", []))
        )
    assert shown.pictures == 2
    assert shown.problems == [
        "new.jsonl: the project has 2 pictures called x.jpg",
        "new.jsonl: new.png and new.jpg are both new.jpg here",
    ]


@pytest.mark.parametrize("key", FORMATS)
@pytest.mark.slow
def test_every_format_brings_a_project_back(data, labelled, frames, tmp_path, key):
    """Written in each format, read into an empty project: the boxes are identical."""
    folder, sessions = data
    form = FORMATS[key]
    with sessions.begin() as session:
        record = export_record(session, labelled)
        other = create_project(session, "Other")
        for number, frame in enumerate(frames):
            add_still(session, folder, other.id, frame, f"still-{number}.jpg", tmp_path)
    written = dict(form.write(record))
    files = LabelFiles({name: lambda name=name: written[name] for name in written}, "labels")
    take_over(sessions, other.id, files, Silent())
    with sessions() as session:
        back = export_record(session, other.id)

    def boxes(record):
        return {p.name: [(record.class_names[b.label], b.corners) for b in p.boxes] for p in record.pictures}

    assert boxes(back) == boxes(record)


def test_a_picture_of_which_every_box_is_faulty_stays_unlabelled(data, fresh):
    """That nothing of it can be used does not say that there is nothing on it."""
    _, sessions = data
    files = lines(("new.jpg", [("roll", [5, 5, 5, 9]), ("roll", [-9, -9, -2, -2])]))
    with sessions() as session:
        shown = preview(session, fresh, files)
    assert (shown.pictures, shown.labelled) == (0, [])
    assert shown.problems[-1] == "new.jsonl: new.jpg stays as it is, as none of its 2 boxes can be used"
    with pytest.raises(InputError, match="none of its 1 pictures is in the project without labels"):
        take_over(sessions, fresh, files, Silent())
    with sessions() as session:
        assert pictures_of(session, fresh, Filter(name="new"))[0].state == PictureState.UNLABELLED


def test_a_refused_import_leaves_nothing_behind(data, fresh):
    """A value that cannot be kept is said in the preview; a class that cannot be made refuses all, at once."""
    _, sessions = data
    content = [
        {"picture": "new.jpg", "width": 960, "height": 540, "boxes": [
            {"class": "bun", "corners": [1, 1, 50, 50], "attributes": {"list": [1, 2]}}]},
        {"picture": "still-1.jpg", "width": 960, "height": 540, "boxes": [
            {"class": "a\tb", "corners": [1, 1, 50, 50]}]},
    ]  # fmt: skip
    files = LabelFiles({"a.jsonl": lambda: "\n".join(map(json.dumps, content)).encode()}, "a.jsonl")

    def everything():
        with sessions() as session:
            changes = [each.title for each in latest_changes(session, fresh)]
            names = [each.name for each in list_classes(session, fresh, retired=True)]
            return export_record(session, fresh), changes, names

    before = everything()
    with sessions() as session:
        problems = preview(session, fresh, files).problems
    assert any("is taken without the attribute 'list'" in each for each in problems)
    assert (
        "a class name has no characters that cannot be shown, unlike 'a\\\\tb'; choose another for it"
        in problems
    )
    with pytest.raises(InputError, match="cannot be shown"):
        take_over(sessions, fresh, files, Silent(), replace=True)
    assert everything() == before


def test_a_stopped_import_leaves_nothing_behind(data, fresh, monkeypatch):
    _, sessions = data
    monkeypatch.setattr("avocet.work.labels.many.AT_ONCE", 1)
    files = lines(("new.jpg", [BOX]), ("still-1.jpg", [BOX]), ("still-2.jpg", [BOX]))

    class StopsInTheMidst(Silent):
        done = 0

        def progress(self, done, total, message=""):
            self.done = done

        def should_stop(self):
            return self.done == 2

    def everything():
        with sessions() as session:
            names = [each.name for each in list_classes(session, fresh, retired=True)]
            return export_record(session, fresh), latest_changes(session, fresh), names

    before = everything()
    with pytest.raises(Stopped):
        take_over(sessions, fresh, files, StopsInTheMidst(), replace=True)
    assert everything() == before


@pytest.mark.slow
@pytest.mark.parametrize("key", FORMATS)
@pytest.mark.parametrize(
    "names",
    [
        ("a.jpg", "a.jpg"),
        ("a.png", "a.jpg"),
        (".hidden.png", "b.jpg"),
        ("day/a.jpg", "night/a.jpg"),
        ("names.jpg", "a.jpg"),
    ],
)
def test_our_own_exports_read_back_whatever_the_pictures_are_called(data, labelled, key, names):
    """Two pictures of one name, of one stem, hidden, in two folders: each gets its own boxes back."""
    _, sessions = data
    with sessions.begin() as session:
        for picture, name in zip(pictures_of(session, labelled), names, strict=False):
            picture.name = name
    with sessions() as session:
        before = export_record(session, labelled)
        assert len({each.name for each in before.pictures}) == len(before.pictures)
        written = dict(FORMATS[key].write(before))
        files = LabelFiles({name: lambda name=name: written[name] for name in written}, "export.zip")
    with sessions.begin() as session:
        for picture in pictures_of(session, labelled):
            save_labels(session, picture, picture.revision, [], PictureState.UNLABELLED)
    taken = take_over(sessions, labelled, files, Silent())
    assert taken.pictures == 6
    with sessions() as session:
        after = export_record(session, labelled)
    corners = lambda record: {each.name: [box.corners for box in each.boxes] for each in record.pictures}  # noqa: E731
    assert corners(after) == corners(before)


def test_of_files_without_sizes_too_only_boxes_that_are_taken_count_as_cut():
    boxes = [RecordedBox(0, (150, 10, 170, 30)), RecordedBox(0, (80, 10, 130, 30))]
    problems = []
    cut = fitted(RecordedPicture("a.jpg", 0, 0, boxes), 100, 100, "truth.csv", problems).cut
    assert (cut, len(problems)) == ([30], 1) and "lies outside" in problems[0]
