"""Snapshots compared, archived, and brought back into an empty project."""

import json
import zipfile

import pytest

from avocet.core.errors import InputError
from avocet.formats.kinds import FORMATS
from avocet.store.tables import Picture, PictureState, Snapshot, now
from avocet.work.exchange.taking import take_over
from avocet.work.exchange.written import export_record
from avocet.work.job_kinds import ARCHIVE_SNAPSHOT
from avocet.work.labels import classes
from avocet.work.labels.boxes import NewBox, boxes_from, labels_of, save_labels
from avocet.work.pictures.intake import take_archive
from avocet.work.pictures.staging import stage, staged_labels
from avocet.work.problems import NotFound
from avocet.work.progress import Silent
from avocet.work.project.projects import create_project
from avocet.work.snapshots.archive import do_archive
from avocet.work.snapshots.comparison import compare_snapshots
from avocet.work.snapshots.snapshots import freeze, labels_now, read_snapshot
from tests.conftest import task_of
from tests.listed import pictures_of
from tests.work.conftest import by_name


def test_snapshots_are_compared_box_by_box(data, labelled):
    _, sessions = data
    with sessions.begin() as session:
        before = labels_now(session, labelled)
        pictures = pictures_of(session, labelled)
        given = boxes_from(labels_of(pictures[0]))
        names = [before.classes[0], before.classes[1]]
        ids = sorted({box.class_id for p in pictures for box in p.boxes})
        moved = NewBox(given[0].class_id, tuple(v + 1 for v in given[0].corners))
        turned = NewBox(ids[0] if given[1].class_id != ids[0] else ids[1], given[1].corners)
        added = NewBox(ids[0], (0.0, 0.0, 9.0, 9.0))
        boxes = [moved, turned, *given[2:-1], added]
        save_labels(session, pictures[0], pictures[0].revision, boxes, PictureState.DONE)
        pictures[1].binned_at = now()
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
@pytest.mark.slow
def test_an_archive_is_brought_back_into_an_empty_project(data, labelled, tmp_path, key):
    folder, sessions = data
    folder.incoming.mkdir(parents=True)
    with sessions.begin() as session:
        snapshot = freeze(session, folder, labelled, name="First belt")
        other = create_project(session, "Other").id
        before = export_record(session, labelled)
        parts = {p.name: p.part for p in pictures_of(session, labelled)}
    given = {"snapshot_id": snapshot.id, "format": key, "with_pictures": True}
    said = do_archive(task_of(data, ARCHIVE_SNAPSHOT, job_id=5, **given))
    assert said.file == f"First-belt-{key}.zip"
    with zipfile.ZipFile(folder.export(5)) as opened:
        assert "parts.csv" in opened.namelist() and opened.testzip() is None
    (tmp_path / "again.zip").write_bytes(folder.export(5).read_bytes())
    outcome = take_archive(sessions, folder, other, tmp_path / "again.zip", "again.zip", Silent())
    assert outcome.added == 6 and outcome.labels
    token = stage(folder, [(tmp_path / "again.zip", "again.zip")])
    with staged_labels(folder, token) as files:
        take_over(sessions, other, files, Silent())
    with sessions() as session:
        back = export_record(session, other)
        assert {p.name: p.part for p in pictures_of(session, other)} == parts

    def boxes(record):
        return {p.name: [(record.class_names[b.label], b.corners) for b in p.boxes] for p in record.pictures}

    assert boxes(back) == boxes(before)
    # Drawn by hand they stay, where the format can say where a box comes from.
    origins = {box.origin for picture in back.pictures for box in picture.boxes}
    assert origins == ({"hand"} if key in ("coco", "json-lines") else {"imported"})


def test_an_archive_without_pictures(data, labelled):
    folder, sessions = data
    with sessions.begin() as session:
        snapshot = freeze(session, folder, labelled)
    given = {"snapshot_id": snapshot.id, "format": "coco", "with_pictures": False}
    do_archive(task_of(data, ARCHIVE_SNAPSHOT, job_id=6, **given))
    with zipfile.ZipFile(folder.export(6)) as opened:
        assert sorted(opened.namelist()) == ["labels.json", "parts.csv"]


def test_retired_classes_are_out_of_snapshots_and_come_back_by_name(data, session, labelled):
    named = by_name(session, labelled)
    ring, boxes = named["ring"], classes.boxes_by_class(session, labelled)
    whole = freeze(session, data[0], labelled)
    classes.retire_class(session, labelled, ring.id)
    frozen = labels_now(session, labelled)
    assert "ring" not in frozen.classes
    assert sum(len(p.boxes) for p in frozen.pictures) == whole.boxes - boxes[ring.id]
    assert classes.boxes_by_class(session, labelled) == boxes
    with pytest.raises(InputError, match="already"):
        classes.retire_class(session, labelled, ring.id)
    assert classes.add_class(session, labelled, "ring") is ring and ring.retired_at is None


def test_a_class_map_merges_renames_and_drops(data, session, labelled):
    named = by_name(session, labelled)
    counts = {name: classes.boxes_by_class(session, labelled)[each.id] for name, each in named.items()}
    snapshot = freeze(
        session,
        data[0],
        labelled,
        name="Two kinds",
        class_map={named["ring"].id: named["roll"].id, named["pretzel"].id: None},
        new_names={named["roll"].id: "round"},
    )
    frozen = read_snapshot(data[0], snapshot)
    assert "round" in frozen.classes and not {"roll", "ring", "pretzel"} & set(frozen.classes)
    label = frozen.classes.index("round")
    round_boxes = sum(box[0] == label for p in frozen.pictures for box in p.boxes)
    assert round_boxes == counts["roll"] + counts["ring"]
    assert snapshot.boxes == sum(counts.values()) - counts["pretzel"]
    with pytest.raises(InputError, match="'loaf'; merge them"):
        freeze(session, data[0], labelled, new_names={named["roll"].id: "loaf"})
    with pytest.raises(InputError, match="every class is left out"):
        freeze(session, data[0], labelled, class_map={each.id: None for each in named.values()})


def test_snapshot_is_named_by_content_and_never_changes(data, labelled):
    folder, sessions = data
    with sessions.begin() as session:
        first = freeze(session, folder, labelled)
        assert freeze(session, folder, labelled).id == first.id
        frozen = read_snapshot(folder, first)
        picture = session.get(Picture, frozen.pictures[0].id)
        save_labels(session, picture, picture.revision, [], PictureState.EMPTY)
        second = freeze(session, folder, labelled)
        assert second.content_hash != first.content_hash
        assert read_snapshot(folder, first) == frozen
        assert second.boxes == first.boxes - len(frozen.pictures[0].boxes)


def test_changed_snapshot_file_is_noticed(data, labelled):
    folder, sessions = data
    with sessions.begin() as session:
        snapshot = freeze(session, folder, labelled)
        path = folder.snapshot(labelled, snapshot.content_hash)
        path.write_text(json.dumps(json.loads(path.read_text()) | {"classes": []}))
        with pytest.raises(NotFound, match="was changed"):
            read_snapshot(folder, snapshot)
        path.unlink()
        with pytest.raises(NotFound, match="is missing"):
            read_snapshot(folder, session.get(Snapshot, snapshot.id))
