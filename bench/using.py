"""Using a model: engines, the stages of a clip, copies, an address, objects counted on a harder clip."""

import http.client
import os
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
import psutil
import torch
from PIL import Image

from avocet.core.boxes import iou
from avocet.core.detections import PictureDetections
from avocet.core.tracks.crossing import crossings
from avocet.core.tracks.linking import link
from avocet.demo.belt import MovingBelt, render_still
from avocet.demo.project import FIRST_SEED
from avocet.demo.results import shipped_results
from avocet.detector.engines.eight_bits import in_eight_bits, value_ranges
from avocet.detector.engines.graph import graph_of
from avocet.detector.engines.onnx_engine import OnnxEngine
from avocet.detector.engines.torch_engine import TorchEngine
from avocet.detector.model.bundle import read_bundle
from avocet.detector.model.card import ModelCard, rewrite_card
from avocet.detector.model.network import Network
from avocet.detector.model.predictor import Predictor
from avocet.detector.model.sizes import SIZES, size_named
from avocet.media.clip_writer import ClipWriter
from avocet.media.clips import read_frames
from avocet.media.drawing import draw_boxes, draw_on_planes
from avocet.media.pictures import encode_jpeg
from avocet.media.planes import Planes, planes_of
from avocet.store.database import open_database
from avocet.store.folder import DataFolder
from avocet.work.addresses.addresses import create_address, make_key
from avocet.work.judge.report import find_candidates, measure
from avocet.work.progress import SILENT
from avocet.work.use.running.course import Input
from avocet.work.use.running.detect import detect
from avocet.work.use.running.order import DetectionOrder
from bench.harder_belt import HarderBelt
from bench.large_pictures import large_pictures
from bench.learning import labelled, truths_in
from bench.quality import UNSEEN_FRAMES, UNSEEN_SEED

ROUNDS, FRAMES = 12, 150

MANY, DIFFERENT = 10_000, 64

HELD = 5
"""Frames on which a track must hold another good for that to be a switch."""


def rate(does: Callable[[], object], rounds: int = ROUNDS) -> float:
    """How often a second something is done: by the median of several times, after one to warm up."""
    does()
    times = []
    for _ in range(rounds):
        begun = time.perf_counter()
        does()
        times.append(time.perf_counter() - begun)
    return 1 / float(np.median(times))


def engines() -> None:
    """Pictures of 416 × 256 a second, by either engine, one and eight at a time."""
    pixels = np.random.default_rng(0).integers(0, 256, (8, 256, 416, 3), dtype=np.uint8)
    for name in SIZES:
        anchors = [[(15, 15), (24, 24), (34, 34)], [(44, 44), (56, 56), (71, 71)], []]
        card = ModelCard(size=name, classes=list("abcde"), side=416, anchors=anchors, reach=2)
        torch.manual_seed(0)
        network = Network(size_named(name), 5, [3, 3, 0]).eval()
        graph = graph_of(card, network)
        small = in_eight_bits(graph, value_ranges(graph, [pixels[:1]]))
        ours, theirs, quicker = (
            TorchEngine(network),
            OnnxEngine(graph.SerializeToString(), card),
            OnnxEngine(small.SerializeToString(), card),
        )
        for batch in (1, 8):
            some = pixels[:batch]
            first = batch * rate(lambda: ours.raw(some), 8)  # noqa: B023 - called at once
            second = batch * rate(lambda: theirs.raw(some), 8)  # noqa: B023
            third = batch * rate(lambda: quicker.raw(some), 8)  # noqa: B023
            print(
                f"  {name} {batch} at a time: torch {first:.1f}, ONNX Runtime {second:.1f} a second, {second / first:.2f} times; "
                f"in 8 bits {third:.1f}, {third / second:.2f} times"
            )


def eight_bits(place: Path) -> None:
    """What 8 bits cost: the demo's models on frames that they never saw, ranges from those that they learnt from."""
    results = shipped_results()
    assert results is not None
    unseen = [labelled(UNSEEN_SEED + number) for number in range(UNSEEN_FRAMES)]
    for number, name in enumerate(("Stint", "Dunlin")):
        path = place / f"{name}.zip"
        path.write_bytes(results.files[f"runs/{number}/best.zip"])
        usual = Predictor.from_bundle(path)
        inputs = [usual.input_of(labelled(FIRST_SEED + each).read())[None] for each in range(24)]
        rewrite_card(path, path, value_ranges=value_ranges(graph_of(*read_bundle(path)), inputs))
        maps = [
            measure(each.classes, truths_in(unseen), find_candidates(each, unseen, SILENT))["map"]
            for each in (usual, Predictor.from_bundle(path))
        ]
        print(f"  {name} of the demo: mAP {maps[0]:.4f} in 32 bits, {maps[1]:.4f} in 8")


def model(place: Path) -> Path:
    """The demo's own Stint."""
    results = shipped_results()
    assert results is not None
    (place / "belt.zip").write_bytes(results.files["runs/0/best.zip"])
    return place / "belt.zip"


def clip_stages(place: Path) -> None:
    """A clip of 1280 × 720, end to end, against each stage alone, on one core and on all."""
    path = place / "belt.mp4"
    belt = MovingBelt(3, FRAMES)
    with ClipWriter(path, 1280, 720, 25) as writer:
        for number in range(FRAMES):
            writer.write(np.asarray(Image.fromarray(belt.frame(number).pixels).resize((1280, 720))))
    cores = os.sched_getaffinity(0)
    try:
        os.sched_setaffinity(0, {min(cores)})
        on_one, _ = stages_alone(path, place, threads=1)
    finally:
        os.sched_setaffinity(0, cores)
    on_all, found = stages_alone(path, place)
    predictor = Predictor.from_bundle(model(place))
    order = DetectionOrder(minimum_score=0.4)
    detect(predictor, [Input(path, path.name)], place / "out", order, SILENT)
    begun = time.perf_counter()
    whole = detect(predictor, [Input(path, path.name)], place / "out", order, SILENT)
    speed = FRAMES / (time.perf_counter() - begun)
    print(
        f"  end to end {speed:.1f} frames a second ({whole['detections']} boxes), in {predictor.engine.name}"
    )
    for cores_told, alone in (("one core", on_one), (f"{len(cores)} cores", on_all)):
        slowest = min(alone, key=lambda name: alone[name])
        in_turn = 1 / sum(1 / each for each in alone.values())
        print(
            f"  alone on {cores_told}: "
            + ", ".join(f"{name} {each:.0f}" for name, each in alone.items())
            + "; end to end "
            f"is {speed / alone[slowest]:.2f} of the slowest ({slowest}), {speed / in_turn:.2f} times all in turn"
        )
    frames = [frame.pixels for frame in read_frames(path)]
    drawing, encoding = [], []
    for pixels, each in zip(frames, found, strict=True):
        # One after the other, as a run does it: copies that are all held at once cost what memory costs, not drawing.
        begun = time.perf_counter()
        copy = draw_boxes(pixels, each.boxes, ["roll 0.99"] * len(each.boxes), ["#E6A03C"] * len(each.boxes))
        between = time.perf_counter()
        encode_jpeg(copy)
        drawing.append(between - begun)
        encoding.append(time.perf_counter() - between)
    print(f"  copies of pictures: drawing takes {np.median(drawing) / np.median(encoding):.2f} of encoding")


def stages_alone(
    path: Path, place: Path, threads: int | None = None
) -> tuple[dict[str, float], list[PictureDetections]]:
    """Frames a second of each stage of a clip by itself, and what was found."""
    card, weights = read_bundle(model(place))
    predictor = Predictor(card, OnnxEngine(graph_of(card, weights).SerializeToString(), card, threads))
    frames = list(read_frames(path))
    held = [each.held for each in frames]
    predictor.candidates(held[:2], 0.3)
    speeds: dict[str, float] = {}

    def timed(name: str, does: Callable[[], Any]) -> Any:
        begun = time.perf_counter()
        made = does()
        speeds[name] = len(frames) / (time.perf_counter() - begun)
        return made

    timed("reading", lambda: sum(1 for _ in read_frames(path)))
    found = timed(
        "network",
        lambda: [
            each.after_suppression(0.4, 0.5)
            for n in range(0, len(frames), 4)
            for each in predictor.candidates(held[n : n + 4], 0.2)
        ],
    )

    def draw() -> list[Planes]:
        made = []
        for frame, each in zip(frames, found, strict=True):
            planes = planes_of(frame.held.frame)
            assert planes is not None
            draw_on_planes(planes, each.boxes, ["roll 0.99"] * len(each.boxes), ["#E6A03C"] * len(each.boxes))
            made.append(planes)
        return made

    drawn = timed("drawing", draw)

    def pack() -> None:
        with ClipWriter(place / "packed.mp4", 1280, 720, 25, quick=True) as writer:
            for each in drawn:
                writer.write_planes(each)

    timed("packing", pack)
    return speeds, found


def folder(place: Path) -> None:
    """Very many pictures of 960 × 540, nothing drawn: whether the network ever waits, and what is held."""
    stills = [encode_jpeg(render_still(number).pixels) for number in range(DIFFERENT)]
    (place / "folder").mkdir()
    inputs = []
    for number in range(MANY):
        path = place / "folder" / f"{number:05d}.jpg"
        if number < DIFFERENT:
            path.write_bytes(stills[number])
        else:
            os.link(place / "folder" / f"{number % DIFFERENT:05d}.jpg", path)
        inputs.append(Input(path, path.name))
    predictor = Predictor.from_bundle(model(place))
    order = DetectionOrder(minimum_score=0.4, copies="none")
    detect(predictor, inputs[:200], place / "few", order, SILENT)
    held = psutil.Process().memory_info().rss
    begun = time.perf_counter()
    whole = detect(predictor, inputs, place / "many", order, SILENT)
    took = time.perf_counter() - begun
    more = psutil.Process().memory_info().rss - held
    print(
        f"  {MANY:,} pictures: {MANY / took:.1f} a second, the network busy {whole['stages']['network'] / took:.0%} of the "
        f"time; {more / 1e6:.0f} MB more than for 200"
    )


def address(place: Path) -> None:
    """Sixteen callers of an address at once, against the bare network and a single caller."""
    from tests.conftest import fill
    from tests.ready import add_trained_run

    data = DataFolder(place / "data")
    sessions = open_database(data.database)
    with sessions.begin() as session:
        fill(session, data, [render_still(n) for n in range(6)], place)
        run = add_trained_run(session, data, 1)
        made = create_address(session, data, 1, "belt", run.id, None)
        _, key = make_key(session, made.id, "bench", 1_000_000)
    picture = encode_jpeg(render_still(40).pixels)
    predictor = Predictor.from_bundle(model(place))
    bare = (
        rate(lambda: predictor.candidates([render], 0.2), 40)
        if (render := render_still(40).pixels) is not None
        else 0
    )
    command = [sys.executable, "-m", "avocet.cli.main", "serve", "--data", str(data.root), "--port", "0"]
    server = subprocess.Popen(command, stdout=subprocess.PIPE, text=True, env=os.environ)
    assert server.stdout is not None
    port = int(server.stdout.readline().split("http://127.0.0.1:")[1].split()[0])
    local = threading.local()

    def call() -> tuple[int, float]:
        if not hasattr(local, "connection"):
            local.connection = http.client.HTTPConnection("127.0.0.1", port, timeout=60)
        headers = {"Authorization": f"Bearer {key}", "Content-Type": "image/jpeg"}
        begun = time.perf_counter()
        local.connection.request("POST", "/api/v1/addresses/belt/detections", picture, headers)
        reply = local.connection.getresponse()
        reply.read()
        return reply.status, 1000 * (time.perf_counter() - begun)

    try:
        for _ in range(5):
            call()
        alone = [call()[1] for _ in range(60)]
        with ThreadPoolExecutor(16) as pool:
            begun = time.perf_counter()
            answers = list(pool.map(lambda _: call(), range(640)))
            took = time.perf_counter() - begun
    finally:
        server.terminate()
        server.wait()
    times = [each for _, each in answers]
    lost = sum(status != 200 for status, _ in answers)
    p50, p95 = np.percentile(alone, 50), np.percentile(times, 95)
    print(
        f"  16 callers: {640 / took:.1f} pictures a second, {640 / took / bare:.2f} of the bare network's {bare:.1f}; {lost} lost; "
        f"p95 {p95:.0f} ms, {p95 / p50:.1f} times the p50 of one caller ({p50:.0f} ms)"
    )


def objects(place: Path) -> None:
    """Objects on a harder clip against where they truly are, for two seeds."""
    predictor = Predictor.from_bundle(model(place))
    for seed in (11, 12, 13):
        belt = HarderBelt(seed, 300)
        frames, truths = [], []
        for number in range(300):
            true = belt.frame(number)
            found = predictor.candidates([true.pixels], 0.2)[0].after_suppression(0.2, 0.5)
            frames.append(PictureDetections(found.boxes, found.scores, found.classes))
            truths.append(true)
        tracks = link(frames, sure=0.4)
        owners = []
        for track in tracks:
            mine = []
            for frame, box in zip(track.frames, track.boxes, strict=True):
                overlap = iou([box], np.clip(truths[frame].boxes, 0, [960, 540, 960, 540]))[0]
                mine.append(int(overlap.argmax()) if overlap.max() >= 0.3 else -1)
            owners.append(mine)
        # Of two goods that lie over one another it is not always plain which one a box is of: held on to counts.
        switches = sum(
            max(0, len({owner for owner in set(each) if owner >= 0 and each.count(owner) >= HELD}) - 1)
            for each in owners
        )
        held = [max(set(each), key=each.count) for each in owners]
        seen = np.sum([true.visible for true in truths], axis=0)
        there = {int(number) for number in np.flatnonzero(seen >= 3)}
        lost = there - set(held)
        twice = len([each for each in held if each >= 0]) - len({each for each in held if each >= 0})
        false = held.count(-1)
        middle = np.array([(true.boxes[:, 1] + true.boxes[:, 3]) / 2 for true in truths])
        truly = int(((middle[0] < 400) & (middle[-1] >= 400)).sum())
        counted = len([each for each in crossings(tracks, [[0, 400], [960, 400]]) if each.forward])
        print(
            f"  seed {seed}: {len(there)} goods, {len(tracks)} objects; {switches} switches, {len(lost)} lost, {twice} counted "
            f"twice, {false} false; over a line behind the bridge {counted}, truly {truly}"
        )


def main() -> None:
    """Print all of it."""
    with tempfile.TemporaryDirectory() as name:
        place = Path(name)
        print("engines")
        engines()
        eight_bits(place)
        print("a clip of 1280 × 720")
        clip_stages(place)
        print("a folder")
        folder(place)
        print("an address")
        address(place)
        print("a picture of 8,000 × 6,000, as a whole and in tiles")
        large_pictures(Predictor.from_bundle(model(place)))
        print("objects on a harder clip")
        objects(place)


if __name__ == "__main__":
    main()
