"""Snapshots compared, archived, and brought back into an empty project."""

import zipfile

import pytest

from avocet.formats.kinds import FORMATS
from avocet.store.tables import PictureState
from avocet.work.archiving import archive_snapshot, compare_snapshots
from avocet.work.exchange import export_record, take_over
from avocet.work.intake import take_archive
from avocet.work.labels import NewBox, boxes_from, labels_of, save_labels
from avocet.work.listing import Filter, list_pictures, set_binned
from avocet.work.progress import Silent
from avocet.work.projects import create_project
from avocet.work.snapshots import freeze, labels_now
from avocet.work.staging import stage, staged_labels


def test_snapshots_are_compared_box_by_box(data, labelled):
    _, sessions = data
    with sessions.begin() as session:
        before = labels_now(session, labelled)
        pictures = list_pictures(session, labelled, Filter())
        given = boxes_from(labels_of(pictures[0]))
        names = [before.classes[0], before.classes[1]]
        ids = sorted({box.class_id for p in pictures for box in p.boxes})
        moved = NewBox(given[0].class_id, tuple(v + 1 for v in given[0].corners))
        turned = NewBox(ids[0] if given[1].class_id != ids[0] else ids[1], given[1].corners)
        added = NewBox(ids[0], (0.0, 0.0, 9.0, 9.0))
        boxes = [moved, turned, *given[2:-1], added]
        save_labels(session, pictures[0], pictures[0].revision, boxes, PictureState.DONE)
        set_binned(session, labelled, [pictures[1].id], True)
        pictures[2].part = None
        after = labels_now(session, labelled)
    found = compare_snapshots(before, after)
    assert found.pictures_gone == ["still-1.jpg"] and found.pictures_added == []
    assert found.pictures_changed == ["still-0.jpg"] and found.other_part == ["still-2.jpg"]
    totals = {
        name: sum(getattr(each, name) for each in found.classes.values())
        for name in ("added", "gone", "moved", "relabelled")
    }
    lost = len(next(p for p in before.pictures if p.name == "still-1.jpg").boxes)
    assert totals == {"added": 1, "gone": 1 + lost, "moved": 1, "relabelled": 1}
    assert sum(found.relabelled.values()) == 1 and names
    assert compare_snapshots(before, before).classes == {}


@pytest.mark.parametrize("key", FORMATS)
def test_an_archive_is_brought_back_into_an_empty_project(data, labelled, tmp_path, key):
    folder, sessions = data
    folder.incoming.mkdir(parents=True)
    with sessions.begin() as session:
        snapshot = freeze(session, folder, labelled, name="First belt")
        other = create_project(session, "Other").id
        before = export_record(session, labelled)
        parts = {p.name: p.part for p in list_pictures(session, labelled, Filter())}
    said = archive_snapshot(sessions, folder, snapshot.id, key, True, 5, Silent())
    assert said == {"file": f"First-belt-{key}.zip"}
    with zipfile.ZipFile(folder.export(5)) as opened:
        assert "parts.csv" in opened.namelist() and opened.testzip() is None
    (tmp_path / "again.zip").write_bytes(folder.export(5).read_bytes())
    outcome = take_archive(sessions, folder, other, tmp_path / "again.zip", "again.zip", Silent())
    assert outcome["added"] == 6 and outcome["labels"]
    token = stage(folder, [(tmp_path / "again.zip", "again.zip")])
    with staged_labels(folder, token) as files:
        take_over(sessions, other, files, Silent())
    with sessions() as session:
        back = export_record(session, other)
        assert {p.name: p.part for p in list_pictures(session, other, Filter())} == parts

    def boxes(record):
        return {p.name: [(record.class_names[b.label], b.corners) for b in p.boxes] for p in record.pictures}

    assert boxes(back) == boxes(before)


def test_an_archive_without_pictures(data, labelled):
    folder, sessions = data
    with sessions.begin() as session:
        snapshot = freeze(session, folder, labelled)
    archive_snapshot(sessions, folder, snapshot.id, "coco", False, 6, Silent())
    with zipfile.ZipFile(folder.export(6)) as opened:
        assert sorted(opened.namelist()) == ["labels.json", "parts.csv"]
