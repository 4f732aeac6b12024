"""Addresses without HTTP: names, models and their history, keys, counts of calls, and the process that answers."""

import datetime as dt
import io
import json
import socket
import threading
import time
from concurrent.futures import wait
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

import avocet
from avocet.core.errors import InputError
from avocet.demo.belt import render_still
from avocet.detector.model.predictor import Predictor
from avocet.jobs.answerer import serve_link
from avocet.jobs.worker import run_job
from avocet.media.pictures import encode_jpeg, read_picture
from avocet.store.address_tables import AddressCalls
from avocet.store.tables import JobState, Proposal
from avocet.work.addresses import calls
from avocet.work.addresses.addresses import (
    answer_with,
    answering,
    back_to,
    bin_address,
    change_address,
    create_address,
    digest_of,
    get_address,
    kept_pictures,
    list_addresses,
    make_key,
    revoke_key,
)
from avocet.work.addresses.answering import Answerer, sent_pictures
from avocet.work.addresses.calls import BINS, CallCounter, calls_of, quantile_of
from avocet.work.addresses.frames import Closed, pack_frame, read_frame
from avocet.work.addresses.link import AnswerLink, Unanswerable
from avocet.work.job_givens import KeptToCollect
from avocet.work.job_kinds import COLLECT_KEPT
from avocet.work.jobs import create_job, get_job
from avocet.work.problems import NotFound
from avocet.work.progress import SILENT
from avocet.work.use.running.course import Input
from avocet.work.use.running.detect import detect
from avocet.work.use.running.order import DetectionOrder
from avocet.work.use.running.record import read_record
from tests.ready import add_trained_run


@pytest.fixture
def belt(data, labelled):
    """A project with two runs, and an address that the first one answers."""
    folder, sessions = data
    with sessions.begin() as session:
        first = add_trained_run(session, folder, 1, "First")
        second = add_trained_run(session, folder, 1, "Second")
        address = create_address(session, folder, 1, "belt-2", first.id, None)
        return folder, sessions, address.id, first.id, second.id


def test_an_address_has_a_history_of_who_answered(belt):
    folder, sessions, address_id, first, second = belt
    with sessions.begin() as session:
        answer_with(session, folder, address_id, second, None)
        models = get_address(session, address_id).models
        assert [each.name for each in models] == ["First", "Second"]
        back_to(session, folder, address_id, models[0].id)
        assert [each.run_id for each in get_address(session, address_id).models] == [first, second, first]
        assert answering(session, folder, "belt-2").head["model"]["name"] == "First"
        with pytest.raises(NotFound, match="no entry 99"):
            back_to(session, folder, address_id, 99)
        with pytest.raises(NotFound):
            answer_with(session, folder, address_id, 99, None)


@pytest.mark.parametrize("name", ["", "Belt", "belt 2", "-belt", "belt-", "ü", "a" * 61, "../x"])
def test_names_that_cannot_be(belt, name):
    folder, sessions, _, first, _ = belt
    with sessions.begin() as session, pytest.raises(InputError, match="no name for an address"):
        create_address(session, folder, 1, name, first, None)


def test_a_name_is_there_once_and_the_bin_answers_nobody(belt):
    folder, sessions, address_id, first, _ = belt
    with sessions.begin() as session:
        with pytest.raises(InputError, match="already"):
            create_address(session, folder, 1, "belt-2", first, None)
        bin_address(session, address_id, True)
        assert answering(session, folder, "belt-2") is None
        assert list_addresses(session, 1) == [] and len(list_addresses(session, 1, binned=True)) == 1
        bin_address(session, address_id, False)
        assert answering(session, folder, "belt-2").id == address_id
        assert answering(session, folder, "nowhere") is None


def test_keys_are_told_once_and_kept_as_digests(belt):
    folder, sessions, address_id, *_ = belt
    with sessions.begin() as session:
        record, key = make_key(session, address_id, "line 2", 60)
        _, second = make_key(session, address_id, "line 3")
        assert key != second and len(key) > 40 and record.start == key[:8]
        found = answering(session, folder, "belt-2")
        assert found.keys[digest_of(key)] == (record.id, 60)
        revoke_key(session, address_id, record.id)
        found = answering(session, folder, "belt-2")
        assert digest_of(key) not in found.keys and digest_of(key) in found.revoked
        assert digest_of(second) in found.keys
        revoke_key(session, address_id, record.id, revoked=False)
        assert digest_of(key) in answering(session, folder, "belt-2").keys
        for name, rate, message in ((" ", 60, "name the key"), ("x", 0, "calls a minute, not 0")):
            with pytest.raises(InputError, match=message):
                make_key(session, address_id, name, rate)
        with pytest.raises(NotFound, match="no key 99"):
            revoke_key(session, address_id, 99)
    # The key itself is nowhere in the data folder.
    assert not any(key.encode() in path.read_bytes() for path in folder.root.rglob("*") if path.is_file())


def test_what_counts_is_checked(belt):
    _, sessions, address_id, *_ = belt
    with sessions.begin() as session:
        address = change_address(session, address_id, {"minimum_score": 0.7, "only": ["roll"]}, 0.1)
        assert address.order == {"minimum_score": 0.7, "only": ["roll"]} and address.keep_share == 0.1
        for order, share in (({"minimum_score": 7}, 0), ({"strange": 1}, 0), ({}, 2)):
            with pytest.raises(InputError):
                change_address(session, address_id, order, share)


def test_calls_are_counted_by_day_key_and_outcome(belt):
    _, sessions, address_id, *_ = belt
    counter = CallCounter(sessions)
    times = np.random.default_rng(3).lognormal(3, 0.5, 400)
    for milliseconds in times:
        counter.count(address_id, 1, "answered", 2, milliseconds)
    for _ in range(5):
        counter.count(address_id, 0, "no key", 0, 1)
    counter.count(999, 1, "answered", 1, 5)  # an address that is gone
    counter.write()
    counter.count(address_id, 2, "answered", 1, 30)
    counter.write()
    with sessions() as session:
        (day,) = calls_of(session, address_id)
    assert day["outcomes"]["answered"] == 401 and day["outcomes"]["no key"] == 5 and day["pictures"] == 801
    assert day["by_key"] == [
        {"key_id": 0, "calls": 5},
        {"key_id": 1, "calls": 400},
        {"key_id": 2, "calls": 1},
    ]
    for name, share in (("median", 0.5), ("p95", 0.95), ("p99", 0.99)):
        assert day[name] == pytest.approx(np.quantile(times, share), rel=0.16)
    assert day["day"] == dt.datetime.now(dt.UTC).date().isoformat()


def test_counts_are_not_lost_where_the_database_refuses(belt, monkeypatch):
    _, sessions, address_id, *_ = belt
    counter = CallCounter(sessions)
    counter.count(address_id, 1, "answered", 1, 10)
    monkeypatch.setattr(calls, "_add", lambda *_: 1 / 0)
    with pytest.raises(ZeroDivisionError):
        counter.write()
    monkeypatch.undo()
    counter.count(address_id, 1, "answered", 1, 10)
    counter.write()
    with sessions() as session:
        row = session.query(AddressCalls).one()
        assert row.calls == 2 and sum(row.latencies) == 2 and len(row.latencies) == BINS
    assert quantile_of([0] * BINS, 0.5) is None


# The process that answers, in threads of this one.


@pytest.fixture
def link():
    made = AnswerLink()
    yield made
    made.close()


@pytest.fixture
def answered(link):
    """A link whose other side answers."""
    thread = threading.Thread(target=serve_link, args=(link.port, link.token), daemon=True)
    thread.start()
    yield link
    link.close()
    thread.join(10)


def head_of(belt, **more):
    folder, sessions, *_ = belt
    with sessions() as session:
        return answering(session, folder, "belt-2").head | more


@pytest.mark.slow
def test_pictures_are_answered_in_their_own_pixels(belt, answered):
    frame = render_still(40)
    head, body = answered.ask(head_of(belt, content_type="image/jpeg"), encode_jpeg(frame.pixels)).result(60)
    assert head == {"status": 200, "pictures": 1}
    said = json.loads(body)
    (picture,) = said["pictures"]
    assert said["address"] == "belt-2" and said["model"]["name"] == "First" and said["milliseconds"] > 0
    assert (picture["width"], picture["height"]) == (960, 540) and len(picture["detections"]) >= 4
    for each in picture["detections"]:
        np.testing.assert_allclose(np.array(each["fractions"]) * [960, 540, 960, 540], each["box"], atol=0.01)
        middle = (np.array(each["box"])[:2] + np.array(each["box"])[2:]) / 2
        inside = (frame.boxes[:, :2] <= middle) & (middle <= frame.boxes[:, 2:])
        assert inside.all(axis=1).any(), "a box that lies on no good"


@pytest.mark.slow
@pytest.mark.parametrize("orientation", [1, 6])
def test_an_address_finds_what_python_and_a_run_find(belt, answered, tmp_path, orientation):
    """Box by box, on a picture that is much larger than the model's input, and on one that is to be turned."""
    large = Image.fromarray(render_still(40).pixels).resize((2880, 1620), Image.Resampling.BICUBIC)
    turned = large if orientation == 1 else large.transpose(Image.Transpose.ROTATE_90)
    exif, path = Image.Exif(), tmp_path / "large.jpg"
    exif[0x0112] = orientation
    turned.save(path, "JPEG", quality=95, exif=exif)
    head = head_of(belt)
    model = avocet.open_model(head["bundles"]["paths"][0])
    wanted = [
        {
            "class": each.class_name,
            "score": round(each.score, 4),
            "box": [round(side, 2) for side in each.box],
        }
        for each in model.find(read_picture(path))
    ]
    assert len(wanted) >= 4
    for annotated in (False, True):
        _, body = answered.ask(head | {"annotated": annotated}, path.read_bytes()).result(60)
        (picture,) = json.loads(body)["pictures"]
        assert (picture["width"], picture["height"]) == (2880, 1620)
        assert [{name: each[name] for name in wanted[0]} for each in picture["detections"]] == wanted
    finder = Predictor.from_bundle(Path(head["bundles"]["paths"][0]))
    for copies in ("none", "boxes"):
        order = DetectionOrder.for_model(finder.about, {"copies": copies})
        detect(finder, [Input(path, "large.jpg")], tmp_path / copies, order, SILENT)
        (row,) = read_record(tmp_path / copies / "detections.jsonl")
        assert row["detections"] == wanted


@pytest.mark.slow
def test_many_at_once_are_each_answered_with_their_own(belt, answered):
    pictures = [render_still(50 + number).pixels for number in range(4)]
    pictures += [pictures[0][:400, :600], np.ascontiguousarray(pictures[1][::2, ::2])]
    alone = [
        json.loads(answered.ask(head_of(belt), encode_jpeg(each)).result(60)[1])["pictures"][0]
        for each in pictures
    ]
    asked = [(n % 6, answered.ask(head_of(belt), encode_jpeg(pictures[n % 6]))) for n in range(60)]
    _, left = wait([each for _, each in asked], timeout=120)
    assert not left
    for which, future in asked:
        (picture,) = json.loads(future.result()[1])["pictures"]
        wanted = alone[which]
        assert (picture["width"], picture["height"]) == (wanted["width"], wanted["height"])
        assert [each["class"] for each in picture["detections"]] == [
            each["class"] for each in wanted["detections"]
        ]
        np.testing.assert_allclose(
            [each["box"] for each in picture["detections"]],
            [each["box"] for each in wanted["detections"]],
            atol=0.05,
        )
    assert answered.waiting == 0


@pytest.mark.slow
def test_what_a_call_wants_and_annotated_copies(belt, answered):
    content = encode_jpeg(render_still(40).pixels)
    every = json.loads(answered.ask(head_of(belt), content).result(60)[1])["pictures"][0]["detections"]
    name = every[0]["class"]
    head = head_of(belt, order={"minimum_score": 0.2, "only": [name]}, annotated=True)
    said = json.loads(answered.ask(head, content).result(60)[1])
    assert {each["class"] for each in said["pictures"][0]["detections"]} == {name} and said[
        "minimum_score"
    ] == 0.2
    import base64

    drawn = Image.open(io.BytesIO(base64.b64decode(said["pictures"][0]["annotated_jpeg"])))
    assert drawn.size == (960, 540)


@pytest.mark.slow
@pytest.mark.parametrize(
    ("content", "status", "message"),
    [
        (b"", 422, "no picture"),
        (b"no picture", 422, "is not a JPEG"),
        (b"\xff\xd8\xff broken", 422, "picture is"),
        (b"\x89PNG\r\n\x1a\n" + bytes(40), 422, "picture is"),
    ],
)
def test_what_is_no_picture_is_refused_and_answering_goes_on(belt, answered, content, status, message):
    head, _ = answered.ask(head_of(belt), content).result(60)
    assert head["status"] == status and message in head["detail"]
    assert answered.ask(head_of(belt), encode_jpeg(render_still(40).pixels)).result(60)[0]["status"] == 200


def form(*files):
    lines = b""
    for name, content in files:
        lines += b'--belt\r\nContent-Disposition: form-data; name="files"; filename="' + name.encode()
        lines += b'"\r\nContent-Type: image/jpeg\r\n\r\n' + content + b"\r\n"
    return lines + b"--belt--\r\n"


def test_forms_bring_several_pictures():
    kind = 'multipart/form-data; boundary="belt"'
    assert sent_pictures(kind, form(("a.jpg", b"one"), ("ü.jpg", b"two"))) == [
        ("a.jpg", b"one"),
        ("ü.jpg", b"two"),
    ]
    assert sent_pictures("image/jpeg", b"bytes") == [("picture", b"bytes")]
    many = form(*((f"{n}.jpg", b"x") for n in range(17)))
    for wrong_kind, body, message in (
        (kind, form(), "no picture"), ("multipart/form-data", b"x", "no boundary"), (kind, many, "at most 16"),
    ):  # fmt: skip
        with pytest.raises(InputError, match=message):
            sent_pictures(wrong_kind, body)


@pytest.mark.slow
def test_a_model_whose_file_is_gone_answers_on_while_it_is_known(belt, answered):
    folder, _, _, first, _ = belt
    content, head = encode_jpeg(render_still(40).pixels), head_of(belt)
    assert answered.ask(head, content).result(60)[0]["status"] == 200
    for path in folder.run(1, first).glob("*"):
        path.unlink()
    assert answered.ask(head, content).result(60)[0]["status"] == 200
    gone = json.loads(json.dumps(head))
    gone["bundles"]["paths"] = [str(folder.root / "nowhere.zip")]
    reply, _ = answered.ask(gone, content).result(60)
    assert reply["status"] == 503 and "no such model" in reply["detail"]


@pytest.mark.slow
def test_the_pictures_that_it_was_least_sure_of_are_kept(belt, answered, tmp_path):
    folder, sessions, address_id, *_ = belt
    with sessions.begin() as session:
        change_address(session, address_id, {}, 0.25)
    head = head_of(belt)
    shown = [render_still(100 + number).pixels for number in range(16)]
    for pixels in shown:
        assert answered.ask(head, encode_jpeg(pixels)).result(60)[0]["status"] == 200
    # Kept after the reply: the last one may still be under way.
    deadline = time.monotonic() + 10
    with sessions() as session:
        address = get_address(session, address_id)
        while not kept_pictures(folder, address) and time.monotonic() < deadline:
            time.sleep(0.05)
        time.sleep(0.5)
        kept = kept_pictures(folder, address)
    assert 1 <= len(kept) <= 12 and [each.doubt for each in kept] == sorted(
        (each.doubt for each in kept), reverse=True
    )
    with sessions.begin() as session:
        given = KeptToCollect(address_id=address_id, files=[each.file for each in kept] + ["../x.jpg"])
        job_id = create_job(session, 1, COLLECT_KEPT, "Collect", given).id
    run_job(sessions, folder, job_id)
    with sessions() as session:
        job = get_job(session, job_id)
        assert job.state == JobState.DONE, job.message
        assert job.outcome["added"] == len(kept) and job.outcome["refused"] == 1
        assert session.query(Proposal).count() == sum(each.boxes for each in kept)
        assert kept_pictures(folder, get_address(session, address_id)) == []


# The link itself.


def connected(link, token=None):
    connection = socket.create_connection(("127.0.0.1", link.port), timeout=5)
    connection.sendall(pack_frame({"token": token or link.token}))
    return connection


def is_shut(connection):
    """Whether the other side wants nothing more of it."""
    try:
        return connection.recv(1) == b""
    except ConnectionResetError:
        return True


def test_nobody_else_takes_the_place_of_the_process(link):
    stranger = connected(link, "guess")
    assert is_shut(stranger) and not link.connected
    garbage = socket.create_connection(("127.0.0.1", link.port), timeout=5)
    garbage.sendall(b"\xff" * 100)
    assert is_shut(garbage)


def test_a_killed_process_loses_no_request(link):
    first = connected(link)
    waiting = link.ask({"what": "roll"}, b"body")
    assert read_frame(first)[0]["what"] == "roll"
    first.close()
    second = connected(link)
    head, body = read_frame(second)
    assert body == b"body"
    second.sendall(pack_frame({"id": head["id"], "status": 200}, b"found"))
    assert waiting.result(5) == ({"status": 200}, b"found") and link.waiting == 0


def test_a_request_that_kills_is_given_up(link):
    waiting = link.ask({"what": "poison"})
    for _ in range(2):
        connection = connected(link)
        read_frame(connection)
        connection.close()
    connected(link)
    with pytest.raises(Unanswerable, match="died of this request"):
        waiting.result(5)


def test_frames_that_are_none():
    ours, theirs = socket.socketpair()
    for content in (b"\xff" * 8, pack_frame({})[:-1], b"\x00\x00\x00\x02\x00\x00\x00\x00[]"):
        ours, theirs = socket.socketpair()
        ours.sendall(content)
        ours.close()
        with pytest.raises(Closed):
            read_frame(theirs)


def test_closing_leaves_nobody_waiting(link):
    waiting = link.ask({"what": "late"})
    link.close()
    with pytest.raises(Unanswerable, match="closing"):
        waiting.result(5)
    Answerer().close()
