"""Pictures, labels, splits and snapshots."""

import json

import numpy as np
import pytest

from avocet.core.errors import InputError
from avocet.media.clips import ClipWriter
from avocet.store.tables import Clip, Part, Picture, PictureState, Snapshot
from avocet.work import listing, media, splits
from avocet.work.classes import add_class, list_classes
from avocet.work.labels import NewBox, labels_of, save_labels
from avocet.work.problems import Conflict, NotFound
from avocet.work.progress import Silent, Stopped
from avocet.work.projects import create_project, project_named, stages
from avocet.work.snapshots import freeze, read_snapshot
from tests.conftest import add_still


@pytest.fixture
def picture(data, frames, tmp_path):
    """A session with a project that has one picture and one class; the picture and the class's number."""
    folder, sessions = data
    with sessions.begin() as session:
        project = create_project(session, "Belt")
        added = add_class(session, project.id, "roll")
        yield session, add_still(session, folder, project.id, frames[0], "a.jpg", tmp_path), added.id


def test_the_same_picture_is_not_doubled(data, frames, tmp_path):
    folder, sessions = data
    with sessions.begin() as session:
        project = create_project(session, "Belt")
        first = add_still(session, folder, project.id, frames[0], "a.jpg", tmp_path)
        listing.set_binned(session, project.id, [first.id], True)
        again = add_still(session, folder, project.id, frames[0], "b.jpg", tmp_path)
        assert again is first and again.name == "a.jpg" and again.binned_at is None
        assert listing.count_pictures(session, project.id, listing.Filter()) == 1


def test_refused_picture_leaves_nothing(data, tmp_path):
    folder, sessions = data
    bad = tmp_path / "bad.jpg"
    bad.write_bytes(b"\xff\xd8 no picture")
    with sessions.begin() as session:
        project = create_project(session, "Belt")
        with pytest.raises(InputError, match=r"bad\.jpg"):
            media.add_picture(session, folder, project.id, bad, "bad.jpg")
        with pytest.raises(InputError, match=r"notes\.txt is neither a picture"):
            media.add_picture(session, folder, project.id, bad, "notes.txt")
    assert not list(folder.root.rglob("*.jpg"))


def test_labels_are_saved_and_stale_ones_are_not(picture):
    session, still, roll = picture
    save_labels(session, still, 0, [NewBox(roll, (10, 10, 50, 40))], PictureState.IN_PROGRESS)
    assert still.revision == 1 and still.state == PictureState.IN_PROGRESS
    with pytest.raises(Conflict) as caught:
        save_labels(session, still, 0, [], PictureState.DONE)
    assert caught.value.current["revision"] == 1
    assert caught.value.current["boxes"][0]["corners"] == [10, 10, 50, 40]
    assert labels_of(still)["boxes"][0]["class_id"] == roll


@pytest.mark.parametrize(
    ("asked", "boxes", "expected"),
    [
        ("done", 1, "done"),
        ("done", 0, "empty"),
        ("empty", 1, "in_progress"),
        ("unlabelled", 1, "in_progress"),
        ("in_progress", 0, "unlabelled"),
        ("empty", 0, "empty"),
    ],
)
def test_state_fits_the_boxes(picture, asked, boxes, expected):
    session, still, roll = picture
    save_labels(session, still, 0, [NewBox(roll, (1, 1, 9, 9))] * boxes, PictureState(asked))
    assert still.state == expected


@pytest.mark.parametrize(
    ("corners", "expected"),
    [
        ((5, 5, 5, 9), "has no area"),
        ((2000, 5, 2010, 9), "lies outside"),
        ((float("nan"), 1, 2, 3), "finite"),
    ],
)
def test_unusable_boxes_are_refused_and_nothing_changes(picture, corners, expected):
    session, still, roll = picture
    with pytest.raises(InputError, match=rf"box 1 of a\.jpg .*{expected}"):
        save_labels(session, still, 0, [NewBox(roll, corners)], PictureState.DONE)
    assert still.revision == 0 and not still.boxes


def test_class_of_another_project_is_refused(picture):
    session, still, _ = picture
    other = create_project(session, "Other")
    foreign = add_class(session, other.id, "nut")
    with pytest.raises(InputError, match=f"class {foreign.id}"):
        save_labels(session, still, 0, [NewBox(foreign.id, (1, 1, 5, 5))], PictureState.DONE)


def test_project_names(data):
    _, sessions = data
    with sessions.begin() as session:
        create_project(session, "Belt")
        for name, expected in (("Belt", "already"), ("  ", "1 to 100"), ("x" * 101, "1 to 100")):
            with pytest.raises(InputError, match=expected):
                create_project(session, name)
        with pytest.raises(NotFound, match="there are 'Belt'"):
            project_named(session, "Oven")


def test_split_keeps_clips_together_and_labelled_pictures_to_the_ratio(data, labelled):
    _, sessions = data
    with sessions.begin() as session:
        clip = Clip(
            project_id=labelled,
            name="c.mp4",
            content_hash="c",
            suffix=".mp4",
            width=9,
            height=9,
            rate=1,
            seconds=9,
        )
        session.add(clip)
        session.flush()
        for number in range(10):
            session.add(
                Picture(
                    project_id=labelled,
                    name=f"f{number}",
                    content_hash=f"f{number}",
                    suffix=".jpg",
                    width=9,
                    height=9,
                    clip_id=clip.id,
                    frame_number=number,
                )
            )
    with sessions.begin() as session:
        counts = splits.split_pictures(session, labelled, (50, 50, 0), seed=1)
        assert counts == {"training": 3, "validation": 3, "test": 0, "": 0}
        frames = [p.part for p in session.query(Picture).filter(Picture.clip_id == clip.id)]
        assert len(set(frames)) == 1
        before = {p.id: p.part for p in session.query(Picture)}
        splits.split_pictures(session, labelled, (50, 50, 0), seed=1)
        assert before == {p.id: p.part for p in session.query(Picture)}
        with pytest.raises(InputError, match="not all 0"):
            splits.split_pictures(session, labelled, (0, 0, 0), seed=1)


def test_sources_are_kept_whole_or_parted_by_choice(data, labelled):
    _, sessions = data
    with sessions.begin() as session:
        for number, picture in enumerate(session.query(Picture).order_by(Picture.id)):
            picture.source = f"belt.zip/day{number % 2}"
    with sessions.begin() as session:
        splits.split_pictures(session, labelled, (50, 50, 0), seed=3)
        parts = {(p.source, p.part) for p in session.query(Picture)}
        assert len(parts) == 2 and len({part for _, part in parts}) == 2
        with pytest.raises(
            InputError, match=r"come from belt.zip/day0, belt.zip/day1; .* cannot fill 3 parts"
        ):
            splits.split_pictures(session, labelled, (40, 30, 30), seed=3)
        counts = splits.split_pictures(session, labelled, (40, 30, 30), seed=3, whole_sources=False)
        assert min(counts["training"], counts["validation"], counts["test"]) > 0


def test_sampling_a_clip_stops_and_goes_on(data, tmp_path):
    folder, sessions = data
    path = tmp_path / "belt.mp4"
    random = np.random.default_rng(0)
    with ClipWriter(path, 64, 48, 10) as writer:
        for _ in range(20):
            writer.write(
                np.kron(random.integers(0, 255, (6, 8, 3), dtype=np.uint8), np.ones((8, 8, 1), np.uint8))
            )
    with sessions.begin() as session:
        project = create_project(session, "Belt")
        clip = media.add_clip(session, folder, project.id, path, "belt.mp4")
        assert media.add_clip(session, folder, project.id, path, "copy.mp4") is clip

    class StopsAfterThree(Silent):
        asked = 0

        def should_stop(self):
            self.asked += 1
            return self.asked > 3

    with pytest.raises(Stopped):
        media.sample_clip(sessions, folder, clip.id, 5, StopsAfterThree())
    assert media.sample_clip(sessions, folder, clip.id, 5, Silent()) == {"added": 7, "already_there": 3}
    with sessions() as session:
        names = [p.name for p in listing.list_pictures(session, project.id, listing.Filter())]
        assert names == [f"belt-{number:06d}.jpg" for number in range(0, 20, 2)]
        assert stages(session, project.id).pictures == 10


def test_pictures_are_filtered_and_paged(data, labelled):
    _, sessions = data
    Filter = listing.Filter
    with sessions.begin() as session:
        everything = listing.list_pictures(session, labelled, Filter())
        assert [p.box_count for p in everything] == [len(p.boxes) for p in everything]
        assert listing.count_pictures(session, labelled, Filter(part=Part.VALIDATION)) == 2
        assert listing.count_pictures(session, labelled, Filter(name="l-3")) == 1
        assert listing.count_pictures(session, labelled, Filter(name="%")) == 0
        ring = next(each for each in list_classes(session, labelled) if each.name == "ring")
        with_ring = {p.id for p in everything if any(box.class_id == ring.id for box in p.boxes)}
        assert set(listing.picture_ids(session, labelled, Filter(class_id=ring.id))) == with_ring
        everything[2].boxes[0].attributes = {"occluded": True}
        everything[3].source = "night/shift"
        ids = [everything[1].id, everything[4].id, 999]
        assert listing.set_tag(session, labelled, ids, " glare ", True) == ids[:2]
        assert listing.set_tag(session, labelled, [p.id for p in everything], "glare", True) != ids[:2]
        assert listing.set_tag(session, labelled, [everything[0].id], "glare", False) == [everything[0].id]
        with pytest.raises(InputError, match="1 to 60 characters"):
            listing.set_tag(session, labelled, ids, " ", True)
        found = lambda **wanted: listing.picture_ids(session, labelled, Filter(**wanted))  # noqa: E731
        assert found(attribute="occluded") == [everything[2].id]
        assert found(source="night/shift") == [everything[3].id]
        assert found(tag="glare") == [p.id for p in everything[1:]]
        assert found(no_part=True) == []
        assert listing.list_sources(session, labelled) == ["night/shift"]
        assert listing.list_tags(session, labelled) == ["glare"]


@pytest.mark.parametrize("order", ["added", "name", "boxes", "labelled", "size"])
@pytest.mark.parametrize("falling", [False, True])
def test_every_order_is_paged_by_key_without_gaps(data, labelled, order, falling):
    _, sessions = data
    with sessions() as session:
        everything = listing.Filter()
        whole = listing.picture_ids(session, labelled, everything, order, falling)
        pages, after = [], 0
        while page := listing.list_pictures(session, labelled, everything, after, 4, order, falling):
            pages += [p.id for p in page]
            after = page[-1].id
        assert pages == whole and len(set(whole)) == 6
        jumped = listing.list_pictures(session, labelled, everything, whole[0], 2, order, falling, skip=2)
        assert [p.id for p in jumped] == whole[3:5]
        if order == "boxes":
            counts = [session.get(Picture, each).box_count for each in whole]
            assert counts == sorted(counts, reverse=falling)


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
