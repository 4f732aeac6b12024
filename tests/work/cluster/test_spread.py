"""Detection and measuring over several machines: what comes of it is what one machine makes, to the byte."""

import threading
import time
from itertools import chain

import numpy as np
import pytest

from avocet.core.errors import InputError
from avocet.media.clip_writer import ClipWriter
from avocet.media.pictures import encode_jpeg
from avocet.work.cluster import joining
from avocet.work.cluster.finding import finding
from avocet.work.cluster.joining import joined, ray_module
from avocet.work.cluster.shipping import ShippedFile
from avocet.work.models.bundle_set import Bundles
from avocet.work.models.opening import open_bundles
from avocet.work.progress import Silent
from tests.conftest import at_length

pytestmark = [pytest.mark.slow, pytest.mark.long]


def contents(out):
    """What a run has written, but for what tells of its time or is packed with it."""
    skipped = {"order.json", "detections.json", "detections-coco.zip", "detections-centre-text.zip"}
    return {
        path.relative_to(out).as_posix(): path.read_bytes()
        for path in out.rglob("*")
        if path.is_file() and path.name not in skipped
    }


WAYS = {
    "plain": {"copies": "none"},
    "copies": {"copies": "boxes", "crops": True},
    "every": {"copies": "none", "every": 3, "overlap_limit": 0.3},
    "a second": {"copies": "blurred", "beside": True, "a_second": 7.0},
    "tiles": {"copies": "none", "tile": 420, "every": 30},
}


@pytest.mark.parametrize(
    "way", ["copies", *(pytest.param(each, marks=at_length) for each in WAYS if each != "copies")]
)
def test_two_nodes_make_what_one_machine_makes(two_nodes, things, look, tmp_path, way):
    inputs = (things.pictures / "more", things.pictures / "041.jpg", things.clip)
    here = look(tmp_path / "here", *inputs, **WAYS[way])
    there = look(tmp_path / "there", *inputs, address=two_nodes.address, **WAYS[way])
    assert contents(tmp_path / "there") == contents(tmp_path / "here")
    assert sum(there["machines"].values()) > 2 and there["workers_lost"] == 0
    for name in ("pictures", "by_class", "objects", "problems", "copies", "empty"):
        assert there[name] == here[name], name
    assert len(here["problems"]) == 1 and "041.jpg" in here["problems"][0]


def test_files_that_workers_do_not_see_travel_with_the_request(
    two_nodes, things, look, tmp_path, monkeypatch
):
    real = ShippedFile.of.__func__

    def elsewhere(path):
        made = real(ShippedFile, path)
        return made if made.size < 0 else ShippedFile(made.path, made.size, made.changed + 1)

    look(tmp_path / "here", things.pictures, things.clip, copies="none")
    monkeypatch.setattr(ShippedFile, "of", staticmethod(elsewhere))
    look(tmp_path / "there", things.pictures, things.clip, address=two_nodes.address, copies="none")
    assert contents(tmp_path / "there") == contents(tmp_path / "here")


@at_length
def test_where_a_clip_is_damaged_the_asking_machine_reads_on(two_nodes, things, look, tmp_path):
    path = tmp_path / "belt.mp4"
    content = bytearray(things.clip.read_bytes())
    middle = len(content) * 2 // 3
    content[middle : middle + 6000] = np.random.default_rng(1).bytes(6000)
    path.write_bytes(content)
    for way in ("plain", "copies"):
        here = look(tmp_path / f"here {way}", path, **WAYS[way])
        there = look(tmp_path / f"there {way}", path, address=two_nodes.address, **WAYS[way])
        assert here["problems"] and there["problems"] == here["problems"]
        assert contents(tmp_path / f"there {way}") == contents(tmp_path / f"here {way}")


def working(spread, wanted):
    """Wait until so many workers hold the model; how many do."""
    ends = time.monotonic() + 60
    while spread._pool.ready < wanted and time.monotonic() < ends:
        time.sleep(0.1)
    return spread._pool.ready


class StopAt(Silent):
    def __init__(self, done):
        self.done, self.wanted = 0, done

    def progress(self, done, total, message=""):
        self.done = done

    def should_stop(self):
        return self.done >= self.wanted


def test_stopped_and_gone_on_nothing_is_done_twice(two_nodes, things, look, tmp_path):
    inputs, order = (things.pictures, things.clip), {"copies": "none"}
    look(tmp_path / "here", *inputs, **order)
    out = tmp_path / "there"
    first = look(out, *inputs, address=two_nodes.address, reporter=StopAt(45), **order)
    assert first["stopped"]
    lines = (out / "detections.jsonl").read_bytes()
    done = look(out, *inputs, address=two_nodes.address, go_on=True, **order)
    assert not done["stopped"] and (out / "detections.jsonl").read_bytes().startswith(lines)
    assert contents(out) == contents(tmp_path / "here")


def test_a_node_that_is_killed_costs_only_what_it_had_under_way(two_nodes, things, look, tmp_path):
    # So much that all are at work on some when one goes.
    inputs = [*[things.pictures] * 5, things.clip]
    look(tmp_path / "here", *inputs, copies="none")
    node = two_nodes.add_node(num_cpus=1)
    two_nodes.wait_for_nodes()
    out = tmp_path / "there"

    class KillLater(Silent):
        killed = False

        def progress(self, done, total, message=""):
            if done >= 15 and not self.killed:
                self.killed = True
                working(seen[0], 3)
                two_nodes.remove_node(node, allow_graceful=False)

    seen = []
    told = look(out, *inputs, address=two_nodes.address, reporter=KillLater(), seen=seen, copies="none")
    assert told["workers_lost"] == 1
    assert contents(out) == contents(tmp_path / "here"), "nothing is missing, nothing twice"


@at_length
def test_a_machine_that_comes_later_takes_part(two_nodes, things, look, tmp_path):
    """And what it had is free again for the next run: workers end with theirs."""
    out, seen, added = tmp_path / "there", [], []

    class AddLater(Silent):
        def progress(self, done, total, message=""):
            if not added:
                added.append(two_nodes.add_node(num_cpus=1))
                two_nodes.wait_for_nodes()
                self.working = working(seen[0], 3)

    reporter = AddLater()
    look(out, things.pictures, address=two_nodes.address, reporter=reporter, seen=seen, copies="none")
    two_nodes.remove_node(added[0])
    assert reporter.working == 3
    with joined(two_nodes.address) as cluster:
        assert [each.working for each in cluster.machines() if each.alive] == [(), ()]


def test_measuring_finds_the_same_candidates(two_nodes, things, frames):
    bundles = Bundles((things.model,))
    here = open_bundles(bundles)
    pictures = [each.pixels for each in frames]
    with finding(two_nodes.address, here, bundles, "Test") as (finder, at_once):
        assert at_once >= 4 and finder.about == here.about and finder.classes == here.classes
        found: dict = {}
        threads = [
            threading.Thread(target=lambda n=n: found.update({n: finder.candidates(pictures, 0.001)}))
            for n in range(4)
        ]
        for each in threads:
            each.start()
        for each in threads:
            each.join()
    for known, made in zip(here.candidates(pictures, 0.001) * 4, chain(*found.values()), strict=True):
        for name in ("boxes", "scores", "classes"):
            assert np.array_equal(getattr(known, name), getattr(made, name))


def test_the_machines_and_what_runs_on_them_are_told(two_nodes, things, look, tmp_path):
    seen, spreads = [], []

    class Look(Silent):
        def progress(self, done, total, message=""):
            if not seen:
                working(spreads[0], 2)
                ray = ray_module()
                seen.extend(joining.Cluster(ray, "").machines())

    look(
        tmp_path / "out",
        things.pictures,
        address=two_nodes.address,
        reporter=Look(),
        seen=spreads,
        copies="none",
    )
    alive = [each for each in seen if each.alive]
    assert [each.cores for each in alive] == [1, 1] and all(each.memory > 10**9 for each in alive)
    assert sorted(name for each in alive for name in each.working) == ["Test", "Test"]


def test_what_is_wrong_is_said(two_nodes, things, look, tmp_path, monkeypatch):
    with (
        joined(two_nodes.address),
        joined(two_nodes.address),
        pytest.raises(InputError, match="works with another cluster already"),
    ):
        look(tmp_path / "out", things.pictures, address="local")
    assert not ray_module().is_initialized()
    with pytest.raises(InputError, match=r"no cluster answers at 127\.0\.0\.1:1"):
        look(tmp_path / "out", things.pictures, address="127.0.0.1:1")
    monkeypatch.setattr(joining, "find_spec", lambda name: None)
    with pytest.raises(InputError, match=r"pip install 'avocet\[cluster\]'"):
        look(tmp_path / "out", things.pictures, address="local")


def test_a_cluster_of_this_machine_alone(things, look, tmp_path):
    """Pictures in black and white and of other sizes, and nothing that could be read."""
    place = tmp_path / "grey"
    place.mkdir()
    for number in range(9):
        (place / f"{number}.png").write_bytes(
            encode_jpeg(np.full((60 + number, 90, 3), 20 * number, np.uint8))
        )
    look(tmp_path / "here", place, copies="boxes")
    look(tmp_path / "there", place, address="local", copies="boxes")
    assert contents(tmp_path / "there") == contents(tmp_path / "here")
    (tmp_path / "bad").mkdir()
    (tmp_path / "bad" / "1.png").write_bytes(b"")
    with ClipWriter(tmp_path / "bad" / "a.mp4", 64, 48, 10) as writer:
        writer.write(np.zeros((48, 64, 3), np.uint8))
    (tmp_path / "bad" / "a.mp4").write_bytes((tmp_path / "bad" / "a.mp4").read_bytes()[:300])
    for address in (None, "local"):
        with pytest.raises(InputError, match=r"1\.png.*a\.mp4"):
            look(tmp_path / "none", tmp_path / "bad", address=address)
