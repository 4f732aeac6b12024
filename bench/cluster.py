"""Detection and training over a cluster: two workers of one thread against one, and what a picture costs the engine."""

import os
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np

from avocet.demo.belt import render_still
from avocet.demo.results import shipped_results
from avocet.media.pictures import encode_jpeg
from avocet.work.cluster.joining import QUIET, joined
from avocet.work.cluster.pool import LookerPool
from avocet.work.cluster.shipping import ShippedFile, ShippedModel
from avocet.work.cluster.spread import Spread
from avocet.work.cluster.worker import RemoteLooker, ShippedStill
from avocet.work.models.bundle_set import Bundles
from avocet.work.models.opening import open_bundles
from avocet.work.progress import SILENT
from avocet.work.use.running.detect import detect, gather
from avocet.work.use.running.order import DetectionOrder
from avocet.work.use.running.stills import portions
from bench import team

PICTURES, ROUNDS = 240, 5


def main() -> None:
    """Print the efficiency, pictures a second, and the cost of a picture."""
    os.environ.update(QUIET | {"OMP_NUM_THREADS": "1"})
    from ray.cluster_utils import Cluster as Nodes

    place = Path(tempfile.mkdtemp(prefix="avocet-bench-"))
    (place / "pictures").mkdir()
    stills = [encode_jpeg(render_still(seed).pixels) for seed in range(12)]
    for number in range(PICTURES):
        (place / "pictures" / f"{number:04d}.jpg").write_bytes(stills[number % 12])
    results = shipped_results()
    assert results is not None
    (place / "model.zip").write_bytes(results.files["runs/0/best.zip"])
    order = DetectionOrder(copies="none")
    here = bare(place, order)
    nodes = Nodes(initialize_head=True, head_node_args={"num_cpus": 1, "include_dashboard": False})
    one, _ = through(nodes, place, order)
    nodes.add_node(num_cpus=1)
    nodes.wait_for_nodes()
    two, asking = through(nodes, place, order)
    nodes.shutdown()
    pairs = np.array(one) / np.array(two)
    alone, single, both = (PICTURES / float(np.median(each)) for each in (here, one, two))
    print(f"  {PICTURES} pictures of 960 x 540, one thread a worker, {ROUNDS} rounds")
    print(f"  the worker's own work without the engine: {alone:.1f} pictures a second")
    print(f"  one worker {single:.1f}, {single / alone:.2f} of that; two {both:.1f}")
    cost = 1000 * (1 / single - 1 / alone)
    print(f"  the engine costs {cost:.2f} ms a picture")
    print(
        f"  two against one: {np.median(pairs):.2f} times ({pairs.min():.2f} to {pairs.max():.2f}), "
        f"efficiency {np.median(pairs) / 2:.2f}"
    )
    print(
        f"  the machine that asks is at work {asking:.2f} ms a picture, so that it would keep up with "
        f"{1000 / asking:,.0f} a second"
    )
    team.main()


def bare(place: Path, order: DetectionOrder) -> list[float]:
    """Seconds of several runs of what a worker does, in this process."""
    looker = RemoteLooker(ShippedModel.of(Bundles((place / "model.zip",))), order.model_dump(mode="json"))
    items = list(enumerate(gather([place / "pictures"])))
    asked = [
        [ShippedStill(number, each.name, "", ShippedFile.of(each.path)) for number, each in some]
        for some in portions(items)
    ]
    looker.stills(asked[0])
    times = []
    for _ in range(ROUNDS):
        begun = time.perf_counter()
        for some in asked:
            looker.stills(some)
        times.append(time.perf_counter() - begun)
    return times


def through(nodes: Any, place: Path, order: DetectionOrder) -> tuple[list[float], float]:
    """Seconds of several runs by workers that hold the model already, and this process' milliseconds a picture."""
    bundles = Bundles((place / "model.zip",))
    with joined(nodes.address) as cluster:
        pool = LookerPool(cluster, ShippedModel.of(bundles), order.model_dump(mode="json"))
        try:
            wanted = int(cluster.ray.cluster_resources()["CPU"])
            while pool.ready < wanted:
                time.sleep(0.1)
            spread = Spread(pool)
            seconds_of(place, order, spread)
            begun = time.process_time()
            times = [seconds_of(place, order, spread) for _ in range(ROUNDS)]
            return times, 1000 * (time.process_time() - begun) / (ROUNDS * PICTURES)
        finally:
            pool.close()


def seconds_of(place: Path, order: DetectionOrder, spread: Spread) -> float:
    """How long a run over all pictures takes."""
    finder = open_bundles(Bundles((place / "model.zip",)))
    inputs = gather([place / "pictures"])
    with tempfile.TemporaryDirectory() as out:
        begun = time.perf_counter()
        detect(finder, inputs, Path(out), order, SILENT, spread=spread)
        return time.perf_counter() - begun
