"""The network computed by ONNX Runtime. It needs no torch."""

import os
from threading import Lock

import numpy as np
import onnxruntime
from numpy.typing import NDArray

from avocet.core.errors import InputError
from avocet.detector.engines.naming import BITS_KEY, INPUT, output_name
from avocet.detector.model.card import ModelCard


class OnnxEngine:
    """A graph of `avocet.detector.engines.graph.graph_of` computed by ONNX Runtime on the processor.

    Parameters
    ----------
    graph : bytes
        The graph's file.
    card : ModelCard
    threads : int, optional
        As many as there are cores by default, or as the environment variable ``OMP_NUM_THREADS`` says.

    Raises
    ------
    InputError
        If ONNX Runtime cannot read the graph.
    """

    def __init__(self, graph: bytes, card: ModelCard, threads: int | None = None) -> None:
        self._graph, self._threads = graph, threads or usual_threads()
        self._session = _session(graph, self._threads)
        self._beside = self._session if self._threads == 1 else None
        self._making = Lock()
        self._depth = 5 + len(card.classes)
        self._levels = [
            (stride, len(anchors)) for stride, anchors in zip(card.strides, card.anchors, strict=True)
        ]
        bits = self._session.get_modelmeta().custom_metadata_map.get(BITS_KEY)
        self._bits = f", {bits} bit" if bits else ""
        self._names = [output_name(stride) for stride, count in self._levels if count]

    @property
    def name(self) -> str:
        return f"ONNX Runtime {onnxruntime.__version__}, processor{self._bits}"

    @property
    def side_by_side(self) -> int:
        # Threads that share the work on one picture wait for one another: by themselves they do half as much again.
        return self._threads

    def raw(self, inputs: NDArray[np.uint8]) -> list[NDArray[np.float32]]:
        return self._raw(self._session, inputs)

    def raw_beside(self, inputs: NDArray[np.uint8]) -> list[NDArray[np.float32]]:
        with self._making:
            if self._beside is None:
                self._beside = _session(self._graph, threads=1)
        return self._raw(self._beside, inputs)

    def _raw(
        self, session: onnxruntime.InferenceSession, inputs: NDArray[np.uint8]
    ) -> list[NDArray[np.float32]]:
        batch, height, width = inputs.shape[:3]
        made = dict(zip(self._names, session.run(self._names, {INPUT: inputs}), strict=True))
        levels = []
        for stride, count in self._levels:
            shape = (batch, count, self._depth, height // stride, width // stride)
            values = made[output_name(stride)].reshape(shape) if count else np.zeros(shape, np.float32)
            levels.append(values)
        return levels


def _session(graph: bytes, threads: int) -> onnxruntime.InferenceSession:
    options = onnxruntime.SessionOptions()
    options.intra_op_num_threads = threads
    # Threads that wait by spinning take what other work on the machine could use.
    options.add_session_config_entry("session.intra_op.allow_spinning", "0")
    options.log_severity_level = 3
    try:
        return onnxruntime.InferenceSession(graph, options, providers=["CPUExecutionProvider"])
    except Exception as error:  # ONNX Runtime raises its own kinds, which share no base but this
        raise InputError(f"ONNX Runtime cannot read the graph: {str(error).splitlines()[0]}") from None


def usual_threads() -> int:
    """As many threads as this process may use cores, unless ``OMP_NUM_THREADS`` says another number."""
    said = os.environ.get("OMP_NUM_THREADS", "")
    if said.isdigit() and int(said):
        return int(said)
    # Not every system says which cores a process may use.
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
