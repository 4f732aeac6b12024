"""Pictures by the many: archives, folders on the server, files that change where they lie."""

import zipfile

import pytest
from PIL import Image

from avocet.core.errors import InputError
from avocet.media.pictures import encode_jpeg
from avocet.work.intake import allowed, look_into, take_archive, take_folder
from avocet.work.listing import Filter, list_pictures
from avocet.work.media import picture_path
from avocet.work.problems import NotFound
from avocet.work.progress import Silent, Stopped
from avocet.work.projects import create_project
from avocet.work.snapshots import freeze, frozen_file, read_snapshot
from avocet.work.thumbnails import thumbnail
from tests.conftest import write_coco_set


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
    assert (outcome["added"], outcome["already_there"], outcome["refused"]) == (2, 1, 2)
    said = {each["name"]: each["message"] for each in outcome["files"]}
    assert "already there" in [each["outcome"] for each in outcome["files"]]
    assert "is not a JPEG" in said["day/broken.png"] and "points outside" in said["link.jpg"]
    with sessions() as session:
        found = {p.name: p.source for p in list_pictures(session, project, Filter())}
        assert found == {"b.jpg": "shelf", "night/a.jpg": "shelf/night"}
        assert all(
            folder.thumbnail(project, p.content_hash).is_file()
            for p in list_pictures(session, project, Filter())
        )
    again = take_folder(sessions, folder, project, shelf, True, Silent())
    assert again["added"] == 0 and again["already_there"] == 3


def test_a_stop_keeps_what_there_is(data, project, shelf):
    folder, sessions = data

    class StopsAfterTwo(Silent):
        asked = 0

        def should_stop(self):
            self.asked += 1
            return self.asked > 2

    with pytest.raises(Stopped):
        take_folder(sessions, folder, project, shelf, True, StopsAfterTwo())
    with sessions() as session:
        assert len(list_pictures(session, project, Filter())) == 1
    assert take_folder(sessions, folder, project, shelf, True, Silent())["added"] == 1


def test_read_where_it_lies_and_changed_there(data, project, shelf, frames):
    folder, sessions = data
    take_folder(sessions, folder, project, shelf, False, Silent())
    with sessions() as session:
        picture = list_pictures(session, project, Filter(name="night"))[0]
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
    with pytest.raises(NotFound, match=r"night/a\.jpg is not at .* its labels are kept"):
        picture_path(folder, picture)


def test_a_snapshot_notices_pictures_changed_outside(data, labelled, shelf, frames):
    from avocet.store.tables import PictureState
    from avocet.work.labels import save_labels

    folder, sessions = data
    # The labelled project has these frames already, so the folder gets others.
    path = shelf / "day" / "new.jpg"
    path.write_bytes(encode_jpeg(frames[4].pixels[:, ::-1]))
    take_folder(sessions, folder, labelled, shelf, False, Silent())
    with sessions.begin() as session:
        picture = list_pictures(session, labelled, Filter(name="new"))[0]
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
    assert (outcome["added"], outcome["refused"], outcome["labels"]) == (1, 2, 1)
    assert any("points outside of the archive" in each["message"] for each in outcome["files"])
    with sessions() as session:
        picture = list_pictures(session, project, Filter())[0]
        assert (picture.name, picture.source) == ("day/frame-1.jpg", "belt.zip/day")
    assert list(folder.incoming.iterdir()) == []
    with zipfile.ZipFile(path, "w") as opened:
        opened.writestr("readme.md", "x")
    with pytest.raises(InputError, match="neither pictures nor clips nor annotation files"):
        take_archive(sessions, folder, project, path, "belt.zip", Silent())


@pytest.mark.parametrize("mode", ["L", "P", "RGBA", "LA", "CMYK", "I;16", "1"])
def test_pictures_of_every_kind_come_in(data, project, tmp_path, mode):
    folder, sessions = data
    place = tmp_path / "kinds"
    place.mkdir()
    name = "a.tif" if mode == "CMYK" else "a.png"
    Image.new(mode, (40, 30), 1 if mode == "1" else None).save(place / name)
    assert take_folder(sessions, folder, project, place, True, Silent())["added"] == 1
    with sessions() as session:
        picture = list_pictures(session, project, Filter())[0]
        assert (picture.width, picture.height) == (40, 30)
