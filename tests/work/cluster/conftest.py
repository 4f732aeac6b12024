"""A cluster of two nodes of one core each on this machine, and things to look at."""

import os
from contextlib import contextmanager
from types import SimpleNamespace

import pytest

from avocet.demo.belt import MovingBelt
from avocet.media.clip_writer import ClipWriter
from avocet.media.pictures import encode_jpeg
from avocet.work.cluster.joining import QUIET
from avocet.work.cluster.spread import spreading
from avocet.work.models.bundle_set import Bundles
from avocet.work.models.opening import open_bundles
from avocet.work.progress import Silent
from avocet.work.use.running.detect import detect, gather
from avocet.work.use.running.order import DetectionOrder
from tests.ready import trained_bundle

QUICKLY = {
    "RAY_health_check_initial_delay_ms": "500",
    "RAY_health_check_period_ms": "500",
    "RAY_health_check_timeout_ms": "1500",
    "RAY_health_check_failure_threshold": "3",
}
"""A node that does not answer is given up in seconds, not in half a minute."""


@pytest.fixture(scope="module")
def two_nodes():
    """Two nodes of one core each; others can be added."""
    os.environ.update(QUIET | QUICKLY)
    from ray.cluster_utils import Cluster

    cluster = Cluster(initialize_head=True, head_node_args={"num_cpus": 1, "include_dashboard": False})
    cluster.add_node(num_cpus=1)
    yield cluster
    cluster.shutdown()


@pytest.fixture(scope="session")
def things(tmp_path_factory, frames):
    """A model, thirty pictures of which one is broken, and a clip of seventy frames."""
    place = tmp_path_factory.mktemp("things")
    (place / "model.zip").write_bytes(trained_bundle())
    (place / "pictures" / "more").mkdir(parents=True)
    for number in range(30):
        folder = place / "pictures" / ("" if number % 3 else "more")
        (folder / f"{number:03d}.jpg").write_bytes(encode_jpeg(frames[number % 6].pixels[number:]))
    (place / "pictures" / "041.jpg").write_bytes(b"no picture")
    belt = MovingBelt(7, 70)
    with ClipWriter(place / "belt.mp4", 960, 540, 25) as writer:
        for number in range(70):
            writer.write(belt.frame(number).pixels)
    return SimpleNamespace(model=place / "model.zip", pictures=place / "pictures", clip=place / "belt.mp4")


@pytest.fixture
def look(things):
    """Runs detection over some inputs, on the machines of a cluster where an address is given."""

    @contextmanager
    def spread_over(address, order):
        with spreading(address, Bundles((things.model,)), order, "Test") as spread:
            yield spread

    def run(out, *inputs, address=None, reporter=None, go_on=False, seen=None, **order):
        finder = open_bundles(Bundles((things.model,)))
        wanted = DetectionOrder.for_model(finder.about, order)
        with spread_over(address, wanted) as spread:
            if seen is not None:
                seen.append(spread)
            return detect(
                finder, gather(inputs), out, wanted, reporter or Silent(), go_on=go_on, spread=spread
            )

    return run
