"""Pictures and clips: one by one and by the many, listed, split, read where they lie."""

import zipfile
from itertools import pairwise
from random import Random

import numpy as np
import pytest
from PIL import Image
from sqlalchemy import select

from avocet.core.errors import InputError
from avocet.core.labels.looks import picture_look
from avocet.media.clip_writer import ClipWriter
from avocet.media.pictures import encode_jpeg, read_picture
from avocet.store.tables import Box, Clip, Part, Picture, PictureState, now
from avocet.work.clips.clips import add_clip
from avocet.work.clips.sampling import sample_clip
from avocet.work.job_givens import ClipFrames, FolderToTake
from avocet.work.job_kinds import Task
from avocet.work.job_outcomes import FramesTaken
from avocet.work.labels.boxes import save_labels
from avocet.work.labels.classes import list_classes
from avocet.work.labels.undo import undo_change
from avocet.work.pictures import intake, listing, splits
from avocet.work.pictures.adding import Arrival, add_picture, take_picture, take_pictures
from avocet.work.pictures.files import picture_path
from avocet.work.pictures.filing import set_tag
from avocet.work.pictures.intake import allowed, do_folder, look_into, take_archive, take_folder
from avocet.work.pictures.listing import Filter, list_pictures
from avocet.work.pictures.thumbnails import look_at_pictures, thumbnail
from avocet.work.problems import NotFound
from avocet.work.progress import Silent, Stopped
from avocet.work.project.projects import create_project
from avocet.work.project.stages import stages
from avocet.work.snapshots.frozen import frozen_file
from avocet.work.snapshots.snapshots import freeze, read_snapshot
from tests.conftest import add_still, write_coco_set
from tests.listed import pictures_of


@pytest.fixture
def project(data):
    with data[1].begin() as session:
        return create_project(session, "Belt").id


@pytest.fixture
def shelf(tmp_path, frames):
    """A folder with pictures in two folders, one that is none, and a link that leads outside."""
    place = tmp_path / "shelf"
    for name, frame in (("day/a.jpg", 0), ("night/a.jpg", 1), ("b.jpg", 0)):
        (place / name).parent.mkdir(parents=True, exist_ok=True)
        (place / name).write_bytes(encode_jpeg(frames[frame].pixels))
    (place / "day" / "broken.png").write_bytes(b"no picture")
    (place / "notes.txt").write_text("roll")
    outside = tmp_path / "outside.jpg"
    outside.write_bytes(encode_jpeg(frames[2].pixels))
    (place / "link.jpg").symlink_to(outside)
    return place


def test_a_folder_is_taken_with_its_folders_as_sources(data, project, shelf):
    folder, sessions = data
    outcome = take_folder(sessions, folder, project, shelf, True, Silent())
    assert (outcome.added, outcome.already_there, outcome.refused) == (2, 1, 2)
    said = {each.name: each.message for each in outcome.files}
    assert "already there" in [each.outcome for each in outcome.files]
    assert "is not a JPEG" in said["day/broken.png"] and "points outside" in said["link.jpg"]
    with sessions() as session:
        found = {p.name: p.source for p in list_pictures(session, project, Filter())}
        assert found == {"b.jpg": "shelf", "night/a.jpg": "shelf/night"}
        assert all(
            folder.thumbnail(project, p.content_hash).is_file()
            for p in list_pictures(session, project, Filter())
        )
    again = take_folder(sessions, folder, project, shelf, True, Silent())
    assert again.added == 0 and again.already_there == 3


def test_a_stop_keeps_what_there_is(data, project, shelf, monkeypatch):
    folder, sessions = data
    monkeypatch.setattr("avocet.work.pictures.intake.AT_ONCE", 1)

    class StopsAfterTwo(Silent):
        asked = 0

        def should_stop(self):
            self.asked += 1
            return self.asked > 2

    with pytest.raises(Stopped):
        take_folder(sessions, folder, project, shelf, True, StopsAfterTwo())
    with sessions() as session:
        assert len(list_pictures(session, project, Filter())) == 1
    assert take_folder(sessions, folder, project, shelf, True, Silent()).added == 1


def test_read_where_it_lies_and_changed_there(data, project, shelf, frames):
    folder, sessions = data
    take_folder(sessions, folder, project, shelf, False, Silent())
    look_at_pictures(sessions, folder, project, Silent())
    with sessions() as session:
        picture = pictures_of(session, project, Filter(name="night"))[0]
    path = shelf / "night" / "a.jpg"
    assert picture_path(folder, picture) == path
    assert not folder.picture(project, picture.content_hash, ".jpg").exists()
    content = path.read_bytes()
    path.write_bytes(content)  # touched, but the same
    assert picture_path(folder, picture) == path
    path.write_bytes(encode_jpeg(frames[3].pixels))
    with pytest.raises(InputError, match=r"night/a\.jpg was changed on disk after it was added"):
        picture_path(folder, picture)
    assert thumbnail(folder, picture).is_file()
    path.unlink()
    with pytest.raises(
        NotFound, match=r"night/a\.jpg is not in the folder night any more; its labels are kept"
    ):
        picture_path(folder, picture)


def test_a_snapshot_notices_pictures_changed_outside(data, labelled, shelf, frames):

    folder, sessions = data
    # The labelled project has these frames already, so the folder gets others.
    path = shelf / "day" / "new.jpg"
    path.write_bytes(encode_jpeg(frames[4].pixels[:, ::-1]))
    take_folder(sessions, folder, labelled, shelf, False, Silent())
    with sessions.begin() as session:
        picture = pictures_of(session, labelled, Filter(name="new"))[0]
        save_labels(session, picture, 0, [], PictureState.EMPTY)
        frozen = read_snapshot(folder, freeze(session, folder, labelled))
    kept = next(each for each in frozen.pictures if each.name == "day/new.jpg")
    assert frozen_file(folder, labelled, kept) == path
    path.write_bytes(encode_jpeg(frames[5].pixels))
    with pytest.raises(InputError, match="was changed on disk"):
        frozen_file(folder, labelled, kept)


def test_only_allowed_folders_are_looked_into(shelf, tmp_path):
    roots = [shelf.resolve()]
    found = look_into(roots, str(shelf))
    assert found.folders == ["day", "night"] and found.pictures == 2
    assert look_into(roots, str(shelf / "day")).pictures == 2
    (shelf / "away").symlink_to(tmp_path)
    for path in (tmp_path, shelf / "..", "/etc", shelf / "nothing", shelf / "away", shelf / "b.jpg"):
        with pytest.raises(NotFound, match="not a folder that this server may read"):
            allowed(roots, str(path))


def test_an_archive_with_everything_in_it(data, project, tmp_path, frames):
    folder, sessions = data
    folder.incoming.mkdir(parents=True)
    truth = write_coco_set(tmp_path / "set", frames[:2])
    path = tmp_path / "belt.zip"
    with zipfile.ZipFile(path, "w") as opened:
        opened.write(truth, "truth.json")
        opened.write(tmp_path / "set" / "frame-1.jpg", "day/frame-1.jpg")
        opened.write(tmp_path / "set" / "frame-2.jpg", "../../frame-2.jpg")
        opened.writestr("day/broken.jpg", b"x")
    outcome = take_archive(sessions, folder, project, path, "belt.zip", Silent())
    assert (outcome.added, outcome.refused, outcome.labels) == (1, 2, 1)
    assert any("points outside of the archive" in each.message for each in outcome.files)
    with sessions() as session:
        picture = pictures_of(session, project)[0]
        assert (picture.name, picture.source) == ("day/frame-1.jpg", "belt.zip/day")
    assert list(folder.incoming.iterdir()) == []
    with zipfile.ZipFile(path, "w") as opened:
        opened.writestr("readme.md", "x")
    with pytest.raises(InputError, match="neither pictures nor clips nor annotation files"):
        take_archive(sessions, folder, project, path, "belt.zip", Silent())


def test_what_is_left_out_of_an_archive_or_a_picture_is_said(data, project, tmp_path):
    page = Image.new("RGB", (40, 30))
    page.save(tmp_path / "pages.tif", save_all=True, append_images=[Image.new("RGB", (40, 30), "red")])
    page.save(tmp_path / "one.png")
    path = tmp_path / "belt.zip"
    with zipfile.ZipFile(path, "w") as opened:
        opened.write(tmp_path / "pages.tif", "pages.tif")
        opened.write(tmp_path / "one.png", "one.png")
        opened.writestr("night/inner.zip", b"PK")
        opened.writestr("__MACOSX/other.zip", b"")
    folder, sessions = data
    folder.incoming.mkdir()
    outcome = take_archive(sessions, folder, project, path, "belt.zip", Silent())
    said = {each.name: (each.outcome, each.message) for each in outcome.files}
    assert said == {
        "pages.tif": ("added", "pages.tif has several pages or frames; only the first is taken"),
        "one.png": ("added", ""),
        "night/inner.zip": (
            "refused", "night/inner.zip is an archive within one; unpack it and add it by itself"
        ),
    }  # fmt: skip


@pytest.mark.slow
def test_many_at_once_become_what_they_become_one_by_one(data, tmp_path):
    """Equal ones among them, one that is there, one in the bin, damaged ones and what is no picture."""
    folder, sessions = data
    random = np.random.default_rng(3)
    kinds = random.integers(0, 6, 60)
    paths = []
    for number, kind in enumerate(kinds):
        path = tmp_path / f"{number}{'.txt' if kind == 5 else '.png'}"
        Image.fromarray(random.integers(0, 255, (40, 50, 3), np.uint8) * (kind != 4)).save(path, "PNG")
        if kind == 3:
            path.write_bytes(path.read_bytes()[:-4000])
        paths.append(path)
    outcomes = []
    for together in (False, True):
        with sessions.begin() as session:
            made = create_project(session, f"Belt {together}").id
        there = take_picture(sessions, folder, made, Arrival(paths[int(np.argmax(kinds < 3))], "there.png"))
        with sessions.begin() as session:
            session.get(Picture, there.picture.id).binned_at = now()
        arrivals = [Arrival(path, path.name) for path in paths]
        if together:
            taken = take_pictures(sessions, folder, made, arrivals)
        else:
            taken = [take_pictures(sessions, folder, made, [each])[0] for each in arrivals]
        outcomes.append(
            [
                str(each) if isinstance(each, InputError)
                else (each.fresh, each.remark, each.picture.name, each.picture.look, each.picture.binned_at)
                for each in taken
            ]
        )  # fmt: skip
        with sessions() as session:
            names = [each.name for each in list_pictures(session, made, Filter())]
        assert names == [
            "there.png",
            *(each[2] for each in outcomes[-1] if not isinstance(each, str) and each[0]),
        ]
        assert all(folder.thumbnail(made, each.picture.content_hash).is_file()
                   for each in taken if not isinstance(each, InputError))  # fmt: skip
    assert outcomes[0] == outcomes[1]
    assert {type(each) for each in outcomes[0]} == {str, tuple}


def test_what_is_used_where_it_lies_is_looked_at_later(data, project, frames, tmp_path):
    folder, sessions = data
    place = tmp_path / "shelf"
    place.mkdir()
    for number in range(3):
        (place / f"{number}.jpg").write_bytes(encode_jpeg(frames[number].pixels))
    with (place / "1.jpg").open("rb+") as half:
        half.truncate(3000)
    followed = []
    task = Task(
        sessions, folder, 1, FolderToTake(project_id=project, path=str(place), copied=False), Silent(),
        lambda number, kind: followed.append(kind),
    )  # fmt: skip
    assert do_folder(task).added == 3 and followed == ["look_at_pictures"]
    with sessions() as session:
        assert {each.look for each in pictures_of(session, project)} == {None}
    seen = look_at_pictures(sessions, folder, project, Silent())
    assert (seen.pictures, seen.unreadable) == (2, 1) and seen.messages[0].startswith("1.jpg is damaged")
    with sessions() as session:
        looks = {each.name: each.look for each in pictures_of(session, project)}
    assert looks["1.jpg"] is None and looks["0.jpg"] == picture_look(read_picture(place / "0.jpg"))


def test_what_is_gone_meanwhile_is_told_on_arrival_and_passed_over_later(data, project, shelf, monkeypatch):
    """On arrival somebody asked for it; later a disk may only be away for a while."""
    folder, sessions = data
    real = intake._below
    monkeypatch.setattr(intake, "_below", lambda path: [*real(path), "day/gone.jpg"])
    outcome = take_folder(sessions, folder, project, shelf, False, Silent())
    said = {each.name: each.message for each in outcome.files}
    assert "No such file" in said["day/gone.jpg"] and outcome.added == 2
    (shelf / "night" / "a.jpg").unlink()
    seen = look_at_pictures(sessions, folder, project, Silent())
    assert (seen.pictures, seen.unreadable) == (1, 0)


@pytest.mark.parametrize("mode", ["L", "P", "RGBA", "LA", "CMYK", "I;16", "1"])
def test_pictures_of_every_kind_come_in(data, project, tmp_path, mode):
    folder, sessions = data
    place = tmp_path / "kinds"
    place.mkdir()
    name = "a.tif" if mode == "CMYK" else "a.png"
    Image.new(mode, (40, 30), 1 if mode == "1" else None).save(place / name)
    assert take_folder(sessions, folder, project, place, True, Silent()).added == 1
    with sessions() as session:
        picture = pictures_of(session, project)[0]
        assert (picture.width, picture.height) == (40, 30)


@pytest.mark.parametrize("order", ["added", "name", "boxes"])
def test_pages_of_a_frequent_class_are_those_of_any_class(data, labelled, order, monkeypatch):
    _, sessions = data
    with sessions() as session:
        for each in list_classes(session, labelled):
            pages = []
            for many in (0, 5000):
                monkeypatch.setattr(listing, "MANY", many)
                wanted = Filter(class_id=each.id, state=PictureState.DONE)
                first = list_pictures(session, labelled, wanted, limit=2, order=order)
                rest = list_pictures(session, labelled, wanted, first[-1].id, order=order, descending=True)
                pages.append([picture.id for picture in first + rest])
            assert pages[0] == pages[1] != []


def test_the_same_picture_is_not_doubled(data, frames, tmp_path):
    folder, sessions = data
    with sessions.begin() as session:
        project = create_project(session, "Belt")
        first = add_still(session, folder, project.id, frames[0], "a.jpg", tmp_path)
        first.binned_at = now()
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
            add_picture(session, folder, project.id, bad, "bad.jpg")
        with pytest.raises(InputError, match=r"notes\.txt is neither a picture"):
            add_picture(session, folder, project.id, bad, "notes.txt")
    assert not list(folder.root.rglob("*.jpg"))


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

    def parts(*where):
        with sessions() as session:
            return dict(session.execute(select(Picture.id, Picture.part).where(*where)).all())

    def counts():
        with sessions() as session:
            return splits.labelled_by_part(session, labelled)

    before = parts()
    split = splits.split_pictures(sessions, labelled, (50, 50, 0), seed=1)
    assert counts() == {"training": 3, "validation": 3, "test": 0, "unassigned": 0}
    assert len(set(parts(Picture.clip_id == clip.id).values())) == 1
    after = parts()
    splits.split_pictures(sessions, labelled, (50, 50, 0), seed=1)
    assert parts() == after != before
    with pytest.raises(InputError, match="not all 0"):
        splits.split_pictures(sessions, labelled, (0, 0, 0), seed=1)
    assert undo_change(sessions, labelled, split.change_id).kept == 0
    assert parts() == before


def test_sources_are_kept_whole_or_parted_by_choice(data, labelled):
    _, sessions = data
    with sessions.begin() as session:
        for number, picture in enumerate(session.query(Picture).order_by(Picture.id)):
            picture.source = f"belt.zip/day{number % 2}"
    with sessions() as session:
        assert splits.count_wholes(session, labelled) == (2, 6)
    splits.split_pictures(sessions, labelled, (50, 50, 0), seed=3)
    with sessions() as session:
        parts = {(p.source, p.part) for p in session.query(Picture)}
    assert len(parts) == 2 and len({part for _, part in parts}) == 2
    with pytest.raises(InputError, match=r"come from belt.zip/day0, belt.zip/day1; .* cannot fill 3 parts"):
        splits.split_pictures(sessions, labelled, (40, 30, 30), seed=3)
    splits.split_pictures(sessions, labelled, (40, 30, 30), seed=3, whole_sources=False)
    with sessions() as session:
        counts = splits.labelled_by_part(session, labelled)
    assert min(counts["training"], counts["validation"], counts["test"]) > 0


def new_clip(session, project_id, name):
    """A clip of which nothing but its number matters."""
    shape = {"suffix": ".mp4", "width": 64, "height": 48, "rate": 10, "seconds": 9}
    clip = Clip(project_id=project_id, name=name, content_hash=name, **shape)
    session.add(clip)
    session.flush()
    return clip


def frame_of(clip, number):
    """An unlabelled frame of it."""
    name = str(number)
    return Picture(
        project_id=clip.project_id, name=name, content_hash=name, suffix=".jpg", width=64, height=48, clip_id=clip.id,
        frame_number=number,
    )  # fmt: skip


def test_of_one_clip_each_part_gets_a_stretch(data, labelled):
    """Who has filmed once can train all the same, and is measured on frames that are no neighbours of what was learnt."""
    _, sessions = data

    def parts():
        with sessions() as session:
            rows = session.query(Picture).order_by(Picture.frame_number)
            return [(picture.part, picture.state) for picture in rows]

    with sessions.begin() as session:
        clip = new_clip(session, labelled, "a")
        for number, picture in enumerate(session.query(Picture)):
            picture.clip_id, picture.frame_number = clip.id, (70 * number) % 60
        # Unlabelled ones belong to the stretch that they lie in, and most come at the end: they are not what is shared out.
        for number in (5, 15, 25, *range(51, 90)):
            session.add(frame_of(clip, number))
    for seed in range(3):
        splits.split_pictures(sessions, labelled, (60, 20, 20), seed)
        found = parts()
        borders = sum(one[0] != other[0] for one, other in pairwise(found))
        assert borders == 2 and len(found) == 48
        learnt = [part for part, state in found if state == PictureState.DONE]
        assert (learnt.count(Part.TRAINING), learnt.count(Part.VALIDATION), learnt.count(Part.TEST)) == (
            4,
            1,
            1,
        )
    splits.split_pictures(sessions, labelled, (1, 0, 0), 0)
    assert {part for part, _ in parts()} == {Part.TRAINING}
    with pytest.raises(InputError, match="0 or more"):
        splits.split_pictures(sessions, labelled, (-1, 2, 0), 0)


def test_unlabelled_frames_do_not_weigh_in_the_shares_of_labelled_ones(data, labelled):
    _, sessions = data
    with sessions.begin() as session:
        clip = new_clip(session, labelled, "a")
        session.query(Box).delete()
        session.query(Picture).update({"state": PictureState.EMPTY})
        first = session.query(Picture).first()
        first.clip_id, first.frame_number = clip.id, 0
        for number in range(1, 41):
            session.add(frame_of(clip, number))
    for seed in range(4):
        splits.split_pictures(sessions, labelled, (60, 20, 20), seed)
        with sessions() as session:
            counts = splits.labelled_by_part(session, labelled)
            assert counts == {"training": 4, "validation": 1, "test": 1, "unassigned": 0}
            assert len({p.part for p in session.query(Picture) if p.clip_id}) == 1, "the clip stays whole"


def test_what_is_kept_whole_is_counted_as_the_split_groups_it(data, labelled):
    _, sessions = data
    random = Random(4)
    with sessions.begin() as session:
        clips = [new_clip(session, labelled, name) for name in ("a", "b")]
        pictures = session.query(Picture).all()
        for _ in range(20):
            for picture in pictures:
                picture.source = random.choice(["", "", "a", "b"])
                picture.clip_id = random.choice([None, None, clips[0].id, clips[1].id])
                picture.state = random.choice(
                    [PictureState.DONE, PictureState.EMPTY, PictureState.UNLABELLED]
                )
            session.flush()
            done = [picture for picture in pictures if picture.state != PictureState.UNLABELLED]
            groups = tuple(
                len({splits._group(picture, whole) for picture in done}) for whole in (True, False)
            )
            assert splits.count_wholes(session, labelled) == groups


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
        clip = add_clip(session, folder, project.id, path, "belt.mp4")
        assert add_clip(session, folder, project.id, path, "copy.mp4") is clip

    class StopsAfterThree(Silent):
        taken = 0

        def progress(self, done, total, message=""):
            self.taken = done

        def should_stop(self):
            return self.taken >= 3

    with pytest.raises(Stopped):
        sample_clip(sessions, folder, ClipFrames(clip_id=clip.id, per_second=5), StopsAfterThree())
    given = ClipFrames(clip_id=clip.id, per_second=5)
    assert sample_clip(sessions, folder, given, Silent()) == FramesTaken(added=7, already_there=3)
    with sessions() as session:
        names = [p.name for p in listing.list_pictures(session, project.id, listing.Filter())]
        assert names == [f"belt-{number:06d}.png" for number in range(0, 20, 2)]
        assert stages(session, project.id).pictures == 10


def test_pictures_are_filtered_and_paged(data, labelled):
    _, sessions = data
    Filter = listing.Filter
    with sessions() as session:
        everything = pictures_of(session, labelled)
        listed = listing.list_pictures(session, labelled, Filter())
        assert [p.boxes for p in listed] == [len(p.boxes) for p in everything]
        assert listing.count_pictures(session, labelled, Filter(part=Part.VALIDATION)) == 2
        assert listing.count_pictures(session, labelled, Filter(name="l-3")) == 1
        assert listing.count_pictures(session, labelled, Filter(name="%")) == 0
        ring = next(each for each in list_classes(session, labelled) if each.name == "ring")
        with_ring = {p.id for p in everything if any(box.class_id == ring.id for box in p.boxes)}
        assert set(listing.picture_ids(session, labelled, Filter(class_id=ring.id))) == with_ring
        everything[2].boxes[0].attributes = {"occluded": True}
        everything[3].source = "night/shift"
        ids = [everything[1].id, everything[4].id, 999]
        session.commit()
        assert set_tag(sessions, labelled, ids, " glare ", True).changed == 2
        assert set_tag(sessions, labelled, [p.id for p in everything], "glare", True).changed == 4
        assert set_tag(sessions, labelled, [everything[0].id], "glare", False).changed == 1
        with pytest.raises(InputError, match="1 to 60 characters"):
            set_tag(sessions, labelled, ids, " ", True)
        found = lambda **wanted: listing.picture_ids(session, labelled, Filter(**wanted))  # noqa: E731
        assert found(attribute="occluded") == [everything[2].id]
        assert found(source="night/shift") == [everything[3].id]
        assert found(tag="glare") == [p.id for p in everything[1:]]
        listed = listing.list_pictures(session, labelled, Filter())
        assert [p.tags for p in listed] == [[], *[["glare"]] * 5]
        assert found(unassigned=True) == []
        assert listing.list_sources(session, labelled) == ["night/shift"]
        assert listing.list_tags(session, labelled) == ["glare"]


@pytest.mark.parametrize("order", ["added", "name", "boxes", "labelled", "size"])
@pytest.mark.parametrize("descending", [False, True])
def test_every_order_is_paged_by_key_without_gaps(data, labelled, order, descending):
    _, sessions = data
    with sessions() as session:
        everything = listing.Filter()
        whole = listing.picture_ids(session, labelled, everything, order, descending)
        pages, after = [], 0
        while page := listing.list_pictures(session, labelled, everything, after, 4, order, descending):
            pages += [p.id for p in page]
            after = page[-1].id
        assert pages == whole and len(set(whole)) == 6
        jumped = listing.list_pictures(session, labelled, everything, whole[0], 2, order, descending, skip=2)
        assert [p.id for p in jumped] == whole[3:5]
        if order == "boxes":
            counts = [session.get(Picture, each).box_count for each in whole]
            assert counts == sorted(counts, reverse=descending)
