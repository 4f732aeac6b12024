"""What looks wrong is found, mended or marked as fine; crops are ordered and changed by the many."""

import pytest
from PIL import Image

from avocet.core.errors import InputError
from avocet.store.tables import Change, Part, PictureState
from avocet.work.audit.crops import crop_jpeg, look_at_crops
from avocet.work.audit.figures import figures
from avocet.work.audit.findings import look_for_findings, mark_fine
from avocet.work.audit.mending import cut_to_picture, join_parts
from avocet.work.audit.sheets import class_sheet
from avocet.work.exchange.written import export_record
from avocet.work.labels.boxes import NewBox, boxes_from, boxes_of, labels_of, save_labels
from avocet.work.labels.classes import add_class, list_classes
from avocet.work.labels.columns import read_columns
from avocet.work.labels.relabelling import change_boxes
from avocet.work.problems import NotFound
from avocet.work.progress import Silent
from tests.conftest import add_still
from tests.listed import pictures_of
from tests.work.conftest import apart, undo


@pytest.fixture
def session(data, labelled):
    with data[1]() as opened:
        opened.info["folder"] = data[0]
        yield opened


def plant(session, picture, *corners, class_id=None):
    """Add boxes to a picture, of its first box's class unless another is given."""
    given = labels_of(picture)
    first = class_id or given["boxes"][0]["class_id"]
    given["boxes"] += [
        {"class_id": first, "corners": list(each), "crowd": False, "attributes": {}} for each in corners
    ]
    save_labels(session, picture, picture.revision, boxes_from(given), PictureState.DONE)


def found(session, project_id, kind):
    session.flush()
    looked = look_for_findings(session, session.info["folder"], project_id)
    return [each for each in looked.listed if each.kind == kind]


def test_planted_mistakes_are_found(session, labelled, data, frames, tmp_path):
    for kind in ("outside", "tiny", "doubled", "two classes", "unconfirmed", "near-identical"):
        assert found(session, labelled, kind) == []
    picture = pictures_of(session, labelled)[0]
    first = labels_of(picture)["boxes"][0]
    other = next(each.id for each in list_classes(session, labelled) if each.id != first["class_id"])
    plant(session, picture, (5, 5, 8, 50), first["corners"])
    plant(session, picture, first["corners"], class_id=other)
    assert len(found(session, labelled, "tiny")) == 1
    assert "3.0×45.0 pixels in still-0.jpg" in found(session, labelled, "tiny")[0].text
    assert [each.kind for each in found(session, labelled, "doubled")] == ["doubled"]
    assert len(found(session, labelled, "two classes")) == 2
    near = add_still(session, data[0], labelled, _lighter(frames[0]), "copy.jpg", tmp_path)
    near.part = Part.VALIDATION
    near.state = PictureState.DONE
    assert "copy.jpg" in found(session, labelled, "unconfirmed")[0].text
    assert set(found(session, labelled, "near-identical")[0].pictures) == {picture.id, near.id}
    rare = add_class(session, labelled, "braid")
    assert f"few boxes {rare.id} 0" in [each.key for each in found(session, labelled, "few boxes")]


def _lighter(frame):
    import numpy as np

    return frame.__class__(np.clip(frame.pixels.astype(int) + 3, 0, 255).astype("uint8"), frame.boxes, [], [])


def test_an_odd_shape_stands_out(session, labelled):
    named = {each.name: each.id for each in list_classes(session, labelled)}
    picture = pictures_of(session, labelled)[0]
    before = {each.key for each in found(session, labelled, "odd shape")}
    plant(session, picture, (100, 100, 400, 120), class_id=named["roll"])
    fresh = [each for each in found(session, labelled, "odd shape") if each.key not in before]
    assert len(fresh) == 1 and fresh[0].boxes[0].corners == (100, 100, 400, 120)


def test_what_is_fine_stays_quiet_until_it_changes(session, labelled):
    picture = pictures_of(session, labelled)[0]
    plant(session, picture, (5, 5, 8, 50))
    finding = found(session, labelled, "tiny")[0]
    mark_fine(session, labelled, [finding.key, finding.key], True)
    assert found(session, labelled, "tiny") == []
    assert [each.key for each in look_for_findings(session, session.info["folder"], labelled).fine] == [
        finding.key
    ]
    plant(session, picture, (50, 5, 53, 50))  # saving anew makes new rows; the mark holds all the same
    assert len(found(session, labelled, "tiny")) == 1
    mark_fine(session, labelled, [finding.key], False)
    assert len(found(session, labelled, "tiny")) == 2


def sheet_of(session, folder, project_id, class_id, order, **given):
    columns = read_columns(session, project_id)
    return class_sheet(session, folder, project_id, columns, class_id, order, **given)


@pytest.mark.slow
def test_sheets_are_ordered(data, labelled):
    folder, sessions = data
    with sessions() as session:
        ring = next(each.id for each in list_classes(session, labelled) if each.name == "ring")
        sizes = [each.value for each in sheet_of(session, data[0], labelled, ring, "size").crops]
        assert sizes == sorted(sizes) and len(sizes) > 2
        descending = sheet_of(session, data[0], labelled, ring, "size", descending=True, start=1, limit=2)
        assert [each.value for each in descending.crops] == sizes[::-1][1:3] and descending.total == len(
            sizes
        )
        for order in ("shape", "date"):
            values = [each.value for each in sheet_of(session, data[0], labelled, ring, order).crops]
            assert values == sorted(values)
        assert sheet_of(session, data[0], labelled, ring, "strange").unseen == len(sizes)
    boxes = look_at_crops(sessions, folder, labelled, Silent()).looked_at
    with sessions() as session:
        assert boxes == sum(len(p.boxes) for p in export_record(session, labelled).pictures)
        for order in ("strange", "brightness"):
            sheet = sheet_of(session, data[0], labelled, ring, order)
            values = [each.value for each in sheet.crops]
            assert sheet.unseen == 0 and values == sorted(values) and values[-1] > 0
    assert look_at_crops(sessions, folder, labelled, Silent()).looked_at == 0


@pytest.mark.slow
def test_a_box_drawn_since_the_last_look_is_unseen_and_comes_last(data, labelled):
    folder, sessions = data
    look_at_crops(sessions, folder, labelled, Silent())
    with sessions.begin() as session:
        ring = next(each.id for each in list_classes(session, labelled) if each.name == "ring")
        picture = pictures_of(session, labelled)[0]
        box = NewBox(ring, (3.0, 4.0, 50.0, 60.0))
        save_labels(session, picture, picture.revision, [*boxes_of(picture), box], PictureState.DONE)
    with sessions() as session:
        sheet = sheet_of(session, folder, labelled, ring, "strange", descending=True)
        assert sheet.unseen == 1 and sheet.crops[-1].picture_id == picture.id
    # Only the new one has to be looked at: the others are as they were.
    assert look_at_crops(sessions, folder, labelled, Silent()).looked_at == 1
    with sessions() as session:
        assert sheet_of(session, folder, labelled, ring, "strange").unseen == 0


def test_a_picture_that_cannot_be_read_is_passed_over(data, labelled):
    folder, sessions = data
    with sessions() as session:
        picture = pictures_of(session, labelled)[0]
        boxes, others = (
            picture.box_count,
            [each.box_count for each in pictures_of(session, labelled)[1:]],
        )
        folder.picture(labelled, picture.content_hash, picture.suffix).write_bytes(b"no picture")
    assert boxes > 0
    assert look_at_crops(sessions, folder, labelled, Silent()).looked_at == sum(others)


def test_a_wrong_class_is_the_strangest(data, labelled):
    """Rolls among which one loaf was labelled by mistake: the loaf comes first."""
    folder, sessions = data
    with sessions.begin() as session:
        named = {each.name: each.id for each in list_classes(session, labelled)}
        picture = next(
            p for p in pictures_of(session, labelled) if any(b.class_id == named["loaf"] for b in p.boxes)
        )
        given = labels_of(picture)
        wrong = next(box for box in given["boxes"] if box["class_id"] == named["loaf"])
        wrong["class_id"] = named["roll"]
        save_labels(session, picture, picture.revision, boxes_from(given), PictureState.DONE)
    look_at_crops(sessions, folder, labelled, Silent())
    with sessions() as session:
        first = sheet_of(session, data[0], labelled, named["roll"], "strange", descending=True).crops[0]
        assert list(first.corners) == wrong["corners"]


def test_boxes_are_changed_by_the_many_and_back(data, session, labelled):
    named = {each.name: each.id for each in list_classes(session, labelled)}
    before = export_record(session, labelled)
    ids = [each.id for each in sheet_of(session, data[0], labelled, named["ring"], "size").crops]
    change = apart(session, change_boxes, labelled, ids, named["roll"])
    assert change.changed == len(ids) and change.title == f"{len(ids)} boxes turned into roll"
    assert sheet_of(session, data[0], labelled, named["ring"], "size").total == 0
    undo(session, labelled, change)
    assert export_record(session, labelled) == before
    ids = [each.id for each in sheet_of(session, data[0], labelled, named["ring"], "size").crops]
    gone = apart(session, change_boxes, labelled, ids[:1], None)
    assert gone.title == "1 box deleted"
    with pytest.raises(InputError, match="changed meanwhile"):
        apart(session, change_boxes, labelled, ids[:1], named["roll"])
    assert sheet_of(session, data[0], labelled, named["ring"], "size").total == len(ids) - 1
    undo(session, labelled, gone)
    assert export_record(session, labelled) == before


def test_crops_reach_over_the_edge(data, session, labelled):
    import io

    picture = pictures_of(session, labelled)[0]
    shown = Image.open(io.BytesIO(crop_jpeg(data[0], picture, (0, 0, 30, 60))))
    assert shown.size == (160, 160) and shown.getpixel((2, 2)) < (12, 12, 12)
    for bad in ((5, 5, 5, 9), (float("nan"), 0, 5, 5)):
        with pytest.raises(InputError, match="corners with an area"):
            crop_jpeg(data[0], picture, bad)


def test_figures_count_by_hand(session, labelled):
    record = export_record(session, labelled)
    boxes = [(p, b) for p in record.pictures for b in p.boxes]
    shown = figures(read_columns(session, labelled), 416)
    assert shown.parts["training"].pictures == 4 and shown.parts["validation"].labelled == 2
    assert sum(part.boxes for part in shown.parts.values()) == len(boxes) == len(shown.points)
    assert sum(map(sum, shown.places)) == len(boxes)
    assert sum(n * pictures for n, pictures in shown.boxes_a_picture.items()) == len(boxes)
    sides = [
        min(b.corners[2] - b.corners[0], b.corners[3] - b.corners[1]) / max(p.width, p.height)
        for p, b in boxes
    ]
    for side, share in shown.small.items():
        assert share == pytest.approx(sum(each * side < 8 for each in sides) / len(sides), abs=1e-4)
    one = figures(read_columns(session, labelled), 416, Part.VALIDATION)
    assert len(one.points) == one.parts["validation"].boxes
    assert figures(read_columns(session, labelled), 64).small_pictures > 0


def test_a_box_over_the_edge_is_cut_with_a_way_back(session, labelled):
    picture = pictures_of(session, labelled)[0]
    box = picture.boxes[0]
    # Labels of an earlier version may lie over the edge; a save of today would cut them.
    box.x1, box.x2 = picture.width - 30.0, picture.width + 12.0
    session.flush()
    assert [each.pictures for each in found(session, labelled, "outside")] == [[picture.id]]
    change = cut_to_picture(session, labelled, picture.id)
    assert max(each.x2 for each in picture.boxes) == picture.width
    assert found(session, labelled, "outside") == [] and picture.name in change.title
    undo(session, labelled, change)
    assert session.get(Change, change.id).undone_at is not None


def test_parts_are_joined_in_that_of_the_first_with_a_way_back(session, labelled):
    pictures = pictures_of(session, labelled)
    first, second = pictures[0], pictures[-1]
    assert (first.part, second.part) == (Part.TRAINING, Part.VALIDATION)
    change = apart(session, join_parts, labelled, [first.id, second.id])
    session.refresh(second)
    assert second.part == Part.TRAINING
    undo(session, labelled, change)
    session.refresh(second)
    assert (first.part, second.part) == (Part.TRAINING, Part.VALIDATION)
    first.part = None
    with pytest.raises(InputError, match="the part of the first one, which has none"):
        apart(session, join_parts, labelled, [first.id, second.id])
    with pytest.raises(NotFound, match="no picture 999"):
        apart(session, join_parts, labelled, [999])
