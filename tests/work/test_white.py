"""Pictures of more than 8 bits: one white for all that belong together, told and changeable, the same at every door."""

import json
import os
import threading
from types import SimpleNamespace

import numpy as np
import pytest

from avocet.core.errors import InputError
from avocet.core.raw.candidates import Candidates
from avocet.detector.engines import find_boxes
from avocet.media.deep import WHITES
from avocet.media.pictures import encode_jpeg, read_picture
from avocet.media.white import whites_of_files
from avocet.store.folder import look_name
from avocet.store.tables import Part, Picture, PictureState
from avocet.work.addresses.answering import Answerer
from avocet.work.audit.crops import crop_keys
from avocet.work.labels.boxes import NewBox, save_labels
from avocet.work.labels.classes import add_class
from avocet.work.labels.columns import read_columns
from avocet.work.live.folder import watch_folder
from avocet.work.pictures.adding import Arrival, add_picture, take_picture
from avocet.work.pictures.files import picture_pixels, viewable_path
from avocet.work.pictures.thumbnails import thumbnail
from avocet.work.pictures.white import choose_white, project_white
from avocet.work.progress import Silent, Stopped
from avocet.work.project.projects import create_project
from avocet.work.snapshots.frozen import Frozen, labelled_pictures
from avocet.work.snapshots.snapshots import freeze, read_snapshot
from avocet.work.train.ahead.plan import held_out_hash
from avocet.work.use.running.course import Input
from avocet.work.use.running.detect import detect
from avocet.work.use.running.looking import Looker
from avocet.work.use.running.order import DetectionOrder
from tests.deep import deep_png

RAMP = np.linspace(0, 1, 2400).reshape(40, 60)


def write(path, brightest, bits=None):
    """A ramp from black up to a value."""
    path.write_bytes(deep_png((RAMP * brightest).astype(np.uint16), bits))
    return path


def shown(brightest, white):
    """How bright its brightest pixel is, of 255."""
    return round(min(1.0, brightest / white) * 255)


@pytest.fixture
def project(data):
    with data[1].begin() as session:
        return create_project(session, "Belt").id


def taken(data, project, path):
    return take_picture(data[1], data[0], project, Arrival(path, path.name)).picture.id


def brightest(data, picture_id):
    with data[1]() as session:
        return int(picture_pixels(data[0], session.get_one(Picture, picture_id)).max())


def test_a_project_has_one_white_and_it_can_be_changed(data, project, tmp_path):
    folder, sessions = data
    dark = taken(data, project, write(tmp_path / "dark.png", 700))
    assert brightest(data, dark) == shown(700, 1023), "alone it looks like one of 10 bits"
    with sessions() as session:
        before = thumbnail(folder, session.get_one(Picture, dark)).read_bytes()
    bright = taken(data, project, write(tmp_path / "bright.png", 4000))
    said = taken(data, project, write(tmp_path / "said.png", 12_000, bits=14))
    plain = taken(data, project, saved_jpeg(tmp_path / "plain.jpg"))
    assert [brightest(data, each) for each in (dark, bright, said)] == [
        shown(700, 4095),
        shown(4000, 4095),
        shown(12_000, 16383),
    ]
    with sessions() as session:
        white = project_white(session, project)
        assert (white.pictures, white.declared, white.of_set, white.chosen) == (3, 1, 4095, None)
        assert white.whites == [4095, 16383]
        picture = session.get_one(Picture, dark)
        assert thumbnail(folder, picture).read_bytes() != before, "it is darker now"
        assert viewable_path(folder, picture).suffix == ".jpg", "browsers would show it nearly black"
        assert read_picture(viewable_path(folder, picture)).max() == pytest.approx(shown(700, 4095), abs=2)
        names = {look_name(picture.content_hash, picture.white)}
        assert viewable_path(folder, session.get_one(Picture, plain)).suffix == ".jpg"
    for chosen, expected in ((1023.0, [174, 255, 255]), (65535.0, [3, 16, 47]), (None, [44, 249, 187])):
        with sessions.begin() as session:
            choose_white(session, project, chosen)
        assert [brightest(data, each) for each in (dark, bright, said)] == expected
        with sessions() as session:
            picture = session.get_one(Picture, dark)
            names.add(look_name(picture.content_hash, picture.white))
            assert project_white(session, project).chosen == chosen
            assert session.get_one(Picture, plain).white is None
    assert len(names) == 3, "a browser keeps what it has under another name"
    with (
        sessions.begin() as session,
        pytest.raises(InputError, match="above 0 and at most 4,294,967,295, not -1"),
    ):
        choose_white(session, project, -1.0)


def saved_jpeg(path):
    path.write_bytes(encode_jpeg(np.full((40, 60, 3), 90, np.uint8)))
    return path


def test_a_new_picture_takes_the_white_that_was_chosen(data, project, tmp_path):
    with data[1].begin() as session:
        choose_white(session, project, 16383)
    assert brightest(data, taken(data, project, write(tmp_path / "a.png", 1023))) == shown(1023, 16383)


def test_a_snapshot_keeps_the_white_that_it_was_made_with(data, project, tmp_path):
    """And a model knows it, where it was the same for all."""
    folder, sessions = data
    with sessions.begin() as session:
        add_class(session, project, "roll")
        for number, part in enumerate((Part.TRAINING, Part.VALIDATION)):
            picture = add_picture(
                session, folder, project, write(tmp_path / f"{number}.png", 4000 - number), f"{number}.png"
            ).picture
            picture.part, picture.state = part, PictureState.DONE
    with sessions.begin() as session:
        frozen = read_snapshot(folder, freeze(session, folder, project))
        choose_white(session, project, 65535)
    for each in labelled_pictures(folder, project, frozen, Part.TRAINING):
        assert each.white == 4095 and each.read().max() == shown(4000, 4095)
    with sessions() as session:
        again = freeze(session, folder, project)
        assert [each.white for each in read_snapshot(folder, again).pictures] == [65535, 65535]
    assert "white" not in Frozen(classes=[], pictures=[]).model_dump_json()


class Watcher:
    """Finds nothing, and remembers how bright what it was shown is."""

    classes = ("roll",)

    def __init__(self, **about):
        self.about = {"size": "wren", "classes": ["roll"], **about}
        self.seen = []

    def candidates(self, pictures, minimum_score):
        self.seen += [int(each.max()) for each in pictures]
        return [Candidates(np.zeros((0, 4)), np.zeros(0), np.zeros(0, np.int64)) for _ in pictures]


def looked_at(paths, out, go_on=False, chosen=None, **about):
    finder = Watcher(**about)
    items = [Input(path, path.name) for path in paths]
    summary = detect(finder, items, out, DetectionOrder(white=chosen), Silent(), go_on=go_on)
    return finder.seen, summary.get("white")


def test_a_run_has_one_white(tmp_path):
    dark, bright = write(tmp_path / "a.png", 700), write(tmp_path / "b.png", 4000)
    said, plain = write(tmp_path / "c.png", 12_000, bits=14), saved_jpeg(tmp_path / "d.jpg")
    every = [dark, bright, said, plain]
    own = shown(12_000, 16383)
    out = tmp_path / "out"
    assert looked_at(every, out) == (
        [shown(700, 4095), shown(4000, 4095), own, 90],
        {"pictures": 3, "declared": 1, "whites": [4095, 16383]},
    )
    seen, _ = looked_at(every, out, chosen=16383)
    assert seen == [shown(700, 16383), shown(4000, 16383), own, 90]
    seen, _ = looked_at(every, out, chosen=1023)
    assert seen == [shown(700, 1023), 255, 255, 90], "a person's word goes before that of a file"
    seen, _ = looked_at([dark, said], out)
    assert seen == [shown(700, 1023), own]
    seen, told = looked_at([dark, said], out, white=4095.0)
    assert seen == [shown(700, 4095), own] and told["whites"] == [4095, 16383], "as the model has learnt it"
    assert looked_at([plain], out) == ([90], None)


def test_a_run_that_goes_on_keeps_its_white(tmp_path):
    dark, bright, out = write(tmp_path / "a.png", 700), write(tmp_path / "b.png", 4000), tmp_path / "out"
    assert looked_at([dark], out)[0] == [shown(700, 1023)]
    seen, told = looked_at([dark, bright], out, go_on=True)
    assert seen == [255] and told["whites"] == [1023]


def test_the_exported_script_reads_as_a_run_does(tmp_path):
    paths = [write(tmp_path / "a.png", 700), write(tmp_path / "b.png", 4000)]
    paths += [write(tmp_path / "c.png", 12_000, bits=14), saved_jpeg(tmp_path / "d.jpg")]
    for some in (paths, paths[:1], paths[2:], paths[3:]):
        white = find_boxes.shared_white(some)
        settled = whites_of_files([(path, path.name) for path in some])
        assert white == settled.of_set
        for place, path in enumerate(some):
            np.testing.assert_array_equal(
                find_boxes.read(path, white), read_picture(path, white=settled.whites.get(place))
            )


@pytest.mark.parametrize("seed", range(20))
def test_any_set_is_read_with_the_least_white_that_holds_all(tmp_path, seed):
    random = np.random.default_rng(seed)
    tops = random.integers(200, 65536, int(random.integers(1, 6))).tolist()
    files = [(write(tmp_path / f"{n}.png", top), f"{n}.png") for n, top in enumerate(tops)]
    least = min(white for white in WHITES if white >= max(tops) * 0.999)
    assert whites_of_files(files).of_set == least


def test_an_address_reads_as_its_model_has_learnt(tmp_path, monkeypatch):
    content = write(tmp_path / "a.png", 700).read_bytes()
    for about, order, expected in (
        ({}, {}, 1023),
        ({"white": 4095.0}, {}, 4095),
        ({"white": 4095.0}, {"white": 16383}, 16383),
    ):
        finder, answers, there = Watcher(**about), [], threading.Event()
        monkeypatch.setattr("avocet.work.addresses.answering.open_bundles", lambda _, finder=finder: finder)
        answerer = Answerer()
        bundles = {
            "paths": [str(tmp_path / "a.png")],
            "weights": [1.0],
            "overlap_limit": 0.5,
            "method": "fusion",
        }
        head = {"bundles": bundles, "order": order, "content_type": "image/png"}

        def reply(head, body, answers=answers, there=there):
            answers.append((head, body))
            there.set()

        answerer.take(head, content, reply)
        assert there.wait(20)
        answerer.close()
        assert answers[0][0]["status"] == 200, answers
        assert finder.seen == [shown(700, expected)]


def test_a_watched_folder_settles_its_white_once(tmp_path):
    source, place = tmp_path / "in", tmp_path / "place"
    source.mkdir()
    place.mkdir()

    def watched(names, **about):
        finder = Watcher(**about)

        class UntilSeen(Silent):
            def should_stop(self):
                return len(finder.seen) >= len(names)

        for name, top in names.items():
            write(source / name, top)
        with pytest.raises(Stopped):
            watch_folder(
                str(source),
                str(tmp_path / "out"),
                False,
                Looker(finder, DetectionOrder()),
                place,
                UntilSeen(),
                0.05,
            )
        return finder.seen

    assert watched({"a.png": 700, "b.png": 4000}) == [shown(700, 4095), shown(4000, 4095)]
    assert json.loads((place / "white.json").read_text()) == 4095
    assert watched({"c.png": 900}) == [shown(900, 4095)], "whoever starts it again"
    assert watched({"d.png": 900}, white=1023.0) == [shown(900, 1023)]


def test_a_training_tells_its_white_only_where_it_is_one():
    from avocet.detector.training.trainer import white_of_all

    some = [SimpleNamespace(white=each) for each in (4095.0, None, 4095.0)]
    assert white_of_all(some) == 4095 and white_of_all(some[1:2]) is None
    assert white_of_all([*some, SimpleNamespace(white=1023.0)]) is None


def test_what_is_kept_of_a_look_belongs_to_its_white(data, project, tmp_path):
    """The look of a box's content is kept under a key, and so are validation pictures of a run: both change with white."""
    folder, sessions = data
    with sessions.begin() as session:
        number = add_class(session, project, "roll").id
        picture = add_picture(session, folder, project, write(tmp_path / "a.png", 4000), "a.png").picture
        save_labels(session, picture, 0, [NewBox(number, (5, 5, 30, 30))], PictureState.DONE)
        picture.part = Part.VALIDATION
    keys, hashes = set(), set()
    for white in (None, 1023, 1023.5, 16_777_215, 16_777_216):
        with sessions.begin() as session:
            choose_white(session, project, white)
        with sessions() as session:
            keys |= set(crop_keys(session, project, read_columns(session, project)))
        with sessions.begin() as session:
            hashes.add(held_out_hash(read_snapshot(folder, freeze(session, folder, project))))
    assert len(keys) == len(hashes) == 5


def test_a_white_that_cannot_be_is_refused_for_files_too(tmp_path):
    with pytest.raises(InputError, match="white must be above 0"):
        whites_of_files([(write(tmp_path / "a.png", 700), "a.png")], chosen=0.0)


def test_a_watched_picture_that_cannot_be_read_settles_nothing(tmp_path):
    source, place = tmp_path / "in", tmp_path / "place"
    source.mkdir()
    broken = write(source / "a.png", 700)
    broken.write_bytes(broken.read_bytes()[:-40])
    os.utime(broken, (1, 1))
    reporter = Silent()
    looks = iter(range(100))
    reporter.should_stop = lambda: next(looks) > 30
    with pytest.raises(Stopped):
        watch_folder(
            str(source),
            str(tmp_path / "out"),
            False,
            Looker(Watcher(), DetectionOrder()),
            place,
            reporter,
            0.1,
        )
    assert not (place / "white.json").exists()
    assert "damaged" in json.loads((tmp_path / "out" / "a.png.json").read_text())["problem"]
