"""Which engine computes a bundle, and the graph that is kept beside it."""

import hashlib
import os
from contextlib import suppress
from importlib.util import find_spec
from pathlib import Path

from avocet.core.errors import InputError
from avocet.detector.engines.engine import Engine
from avocet.detector.model.card import ModelCard, read_bundle_parts
from avocet.files import write_bytes

GRAPH_WRITER = 1
"""Raised whenever the same weights would make another graph."""

TORCH, ONNX_RUNTIME = "torch", "ONNX Runtime"

LARGEST_GRAPH = 600_000_000

GPU_SIGNS = ("/dev/nvidiactl", "/dev/nvidia0", "/proc/driver/nvidia", "/dev/kfd", "/dev/dxg")
"""What a driver of a GPU that torch could use leaves on the machine."""


def open_engine(path: Path) -> tuple[ModelCard, Engine]:
    """Read a model bundle and make what computes it ready.

    On a processor that is ONNX Runtime, which takes about two thirds of torch's time; its graph is made
    once and kept beside the bundle, so that later neither torch nor the weights are needed. On a GPU, or
    where ONNX Runtime is missing, it is torch.

    Parameters
    ----------
    path : Path

    Returns
    -------
    card : ModelCard
    engine : Engine

    Raises
    ------
    InputError
        If the file is no bundle, or the environment variable ``AVOCET_DEVICE`` names what is not there.
    """
    if engine_taken()[0] == TORCH:
        from avocet.detector.engines.torch_engine import TorchEngine
        from avocet.detector.model.bundle import read_bundle

        card, network = read_bundle(path)
        return card, TorchEngine(network)
    from avocet.detector.engines.onnx_engine import OnnxEngine

    card, weights = read_bundle_parts(path)
    of = (
        f"{GRAPH_WRITER} {hashlib.sha256(weights).hexdigest()} {card.size} {card.anchors} {len(card.classes)}"
        f"{card.value_ranges or ''}"
    )
    kept = graph_beside(path)
    # It stands before the graph and says of which weights that was made.
    stamp = hashlib.sha256(of.encode()).digest()
    graph = _kept_graph(kept, stamp)
    if graph is not None:
        # A damaged one is made anew below.
        with suppress(InputError):
            return card, OnnxEngine(graph, card)
    graph = _graph_for(path, card)
    engine = OnnxEngine(graph, card)
    # In a folder that cannot be written it is made anew the next time.
    with suppress(InputError):
        write_bytes(kept, stamp + graph)
    return card, engine


def _graph_for(path: Path, card: ModelCard) -> bytes:
    graph = graph_bytes(path)
    if not card.value_ranges:
        return graph
    try:
        return eight_bit_bytes(graph, card)
    except InputError:
        # Ranges of a version that wrote graphs otherwise: they can be found anew.
        return graph


def eight_bit_bytes(graph: bytes, card: ModelCard) -> bytes:
    """A graph of `graph_bytes` as one that computes in 8 bits, by the ranges in its card.

    Parameters
    ----------
    graph : bytes
    card : ModelCard

    Returns
    -------
    bytes
        Of `avocet.detector.engines.eight_bits.in_eight_bits`.

    Raises
    ------
    InputError
        If the ranges are not those of this graph.
    """
    import onnx

    from avocet.detector.engines.eight_bits import in_eight_bits

    made: bytes = in_eight_bits(onnx.load_model_from_string(graph), card.value_ranges).SerializeToString()
    return made


def graph_bytes(path: Path) -> bytes:
    """A bundle's network as an ONNX file for other programs, as `avocet.detector.engines.graph.graph_of` makes it.

    Parameters
    ----------
    path : Path
        The bundle.

    Returns
    -------
    bytes

    Raises
    ------
    InputError
        If the file is no bundle.
    """
    from avocet.detector.engines.graph import graph_of
    from avocet.detector.model.bundle import read_bundle

    made: bytes = graph_of(*read_bundle(path)).SerializeToString()
    return made


def graph_beside(path: Path) -> Path:
    """Where the graph of a bundle is kept.

    Examples
    --------
    >>> graph_beside(Path("models/belt.zip")).as_posix()
    'models/.belt.zip.graph'
    """
    return path.with_name(f".{path.name}.graph")


def engine_taken() -> tuple[str, str]:
    """What computes the network here, and why; where that is plain, torch is not imported for the answer.

    Returns
    -------
    engine : str
        ``torch`` or ``ONNX Runtime``.
    why : str
        The rest of a sentence that begins with "as".

    Raises
    ------
    InputError
        If the environment variable ``AVOCET_DEVICE`` names what is not there.

    Examples
    --------
    >>> os.environ["AVOCET_DEVICE"] = "cpu"
    >>> engine_taken()
    ('ONNX Runtime', 'AVOCET_DEVICE says cpu')
    """
    for package in ("onnxruntime", "onnx"):
        if find_spec(package) is None:
            return TORCH, f"the package {package} is missing"
    wanted = os.environ.get("AVOCET_DEVICE", "").strip()
    if wanted:
        return (ONNX_RUNTIME if wanted == "cpu" else TORCH), f"AVOCET_DEVICE says {wanted}"
    faster = "on processors it takes about two thirds of torch's time"
    if os.name != "nt" and not any(Path(each).exists() for each in GPU_SIGNS):
        return ONNX_RUNTIME, f"there is no GPU: {faster}"
    from avocet.detector.model.device import chosen_device

    if chosen_device().type != "cpu":
        return TORCH, "there is a GPU"
    return ONNX_RUNTIME, f"torch finds no GPU that it can use: {faster}"


def _kept_graph(kept: Path, stamp: bytes) -> bytes | None:
    try:
        if not kept.is_file() or kept.stat().st_size > LARGEST_GRAPH:
            return None
        content = kept.read_bytes()
    except OSError:
        return None
    return content[len(stamp) :] if content[: len(stamp)] == stamp else None
