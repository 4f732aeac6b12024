"""Files that come with a request: written once, hashed on the way, and gone if nobody takes them."""

import hashlib
import io

import pytest
from flask import Flask

from avocet.core.errors import InputError
from avocet.web import uploads
from avocet.web.context import context_of


@pytest.fixture
def door(data):
    """A page that takes files, and what it saw of them."""
    app, seen = Flask(__name__), []
    app.extensions["avocet"] = context_of(*data, lambda *_: None)
    uploads.accept_uploads(app)

    @app.post("/")
    def take():
        for each in uploads.sent_files():
            seen.append((each.name, each.digest, each.path, each.path.read_bytes()))
        return ""

    @app.post("/taken")
    def keep():
        file = uploads.sent_file("files")
        file.path.rename(data[0].root / "kept")
        return ""

    @app.post("/broken")
    def fail():
        uploads.sent_files()
        raise RuntimeError

    return app.test_client(), seen, data[0]


def sent(*files):
    return {"data": {"files": [(io.BytesIO(content), name) for content, name in files]}}


def left(folder):
    return [each for each in folder.incoming.rglob("*") if each.is_file()] if folder.incoming.exists() else []


def test_a_file_lies_in_the_data_folder_with_its_hash_and_goes_with_the_request(door):
    client, seen, folder = door
    large = bytes(range(256)) * 5000
    client.post("/", **sent((b"roll", "day 1/roll.jpg"), (large, "loaf.PNG")))
    assert [(name, content) for name, _, _, content in seen] == [
        ("day 1/roll.jpg", b"roll"),
        ("loaf.PNG", large),
    ]
    for _, digest, path, content in seen:
        assert digest == hashlib.sha256(content).hexdigest()
        assert path.parent == folder.incoming and path.suffix in (".jpg", ".png")
    assert left(folder) == []


def test_what_is_taken_stays_and_a_failed_request_leaves_nothing(door):
    client, _, folder = door
    client.post("/taken", **sent((b"roll", "roll.jpg")))
    assert (folder.root / "kept").read_bytes() == b"roll"
    client.post("/broken", **sent((b"roll", "roll.jpg")))
    assert left(folder) == []


@pytest.mark.parametrize("name", ["../roll.jpg", "a/../../roll.jpg", "roll\x01.jpg", "r" * 501])
def test_a_name_that_no_file_may_have_is_refused(door, name):
    client, seen, _ = door
    with (
        client.application.test_request_context("/", method="POST", **sent((b"roll", name))),
        pytest.raises(InputError, match="not a name that a file may have"),
    ):
        uploads.sent_files()
    assert seen == []


def test_none_and_several_where_one_is_wanted(door):
    client, _, _ = door
    app = client.application
    with app.test_request_context("/", method="POST"):
        assert uploads.sent_file("files") is None
        with pytest.raises(InputError, match="no file was sent"):
            uploads.sent_files()
    with (
        app.test_request_context("/", method="POST", **sent((b"1", "a.jpg"), (b"2", "b.jpg"))),
        pytest.raises(InputError, match="2 files were sent as files"),
    ):
        uploads.sent_file("files")


def test_a_full_disk_is_said_before_anything_is_written(door, monkeypatch):
    client, _, folder = door

    def full(place, wanted):
        raise InputError(f"{wanted} bytes do not fit")

    monkeypatch.setattr(uploads, "check_space", full)
    with (
        client.application.test_request_context("/", method="POST", **sent((b"roll", "roll.jpg"))),
        pytest.raises(InputError, match="bytes do not fit"),
    ):
        uploads.sent_files()
    assert left(folder) == []
