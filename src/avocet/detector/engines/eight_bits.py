"""A network computed in whole numbers of 8 bits: smaller, and on processors with instructions for them quicker.

Whether it is quicker here, and as precise, is found out by trying: `avocet.work.models.eight_bits`.
"""

from collections.abc import Iterable, Mapping

import numpy as np
import onnx
import onnxruntime
from numpy.typing import NDArray
from onnx import helper
from onnxruntime.quantization.calibrate import CalibrationMethod, TensorsData
from onnxruntime.quantization.qdq_quantizer import QDQQuantizer
from onnxruntime.quantization.quant_utils import QuantType

from avocet.core.errors import InputError
from avocet.detector.engines.naming import BITS_KEY, INPUT

IN_EIGHT_BITS = ("Conv", "Sigmoid", "Mul", "Clip")
"""What is computed so: convolutions and their activation. The heads are not: a box's place needs more than 256
steps."""


def value_ranges(
    graph: onnx.ModelProto, inputs: Iterable[NDArray[np.uint8]]
) -> dict[str, tuple[float, float]]:
    """Between which limits the values behind each layer lie.

    Parameters
    ----------
    graph : onnx.ModelProto
        Of `avocet.detector.engines.graph.graph_of`.
    inputs : iterable of (B, H, W, 3) ndarray of uint8
        Pictures as the network gets them, of those that it was trained on.

    Returns
    -------
    dict of str to (float, float)
        By the name of the value in the graph: the least and the most that was seen, zero always among them.

    Examples
    --------
    What comes in, divided by 255, of a white picture:

    >>> from avocet.detector.engines.graph import graph_of
    >>> from avocet.detector.model.card import ModelCard
    >>> from avocet.detector.model.network import Network
    >>> from avocet.detector.model.sizes import size_named
    >>> card = ModelCard(size="stint", classes=["roll"], side=64, anchors=[[(9, 9)], [], []], reach=2)
    >>> graph = graph_of(card, Network(size_named("stint"), 1, [1, 0, 0]))
    >>> value_ranges(graph, [np.full((1, 64, 64, 3), 255, np.uint8)])["div_2"]
    (0.0, 1.0)
    """
    asked = sorted(_between(graph))
    watched = onnx.ModelProto()
    watched.CopyFrom(graph)
    watched.graph.output.extend(
        helper.make_tensor_value_info(name, onnx.TensorProto.FLOAT, None) for name in asked
    )
    options = onnxruntime.SessionOptions()
    options.log_severity_level = 3
    session = onnxruntime.InferenceSession(
        watched.SerializeToString(), options, providers=["CPUExecutionProvider"]
    )
    # Zero has to be told exactly, as it is what lies around a picture's edge.
    least, most = dict.fromkeys(asked, 0.0), dict.fromkeys(asked, 0.0)
    for some in inputs:
        for name, values in zip(asked, session.run(asked, {INPUT: some}), strict=True):
            least[name] = min(least[name], float(values.min()))
            most[name] = max(most[name], float(values.max()))
    return {name: (least[name], most[name]) for name in asked}


def in_eight_bits(graph: onnx.ModelProto, ranges: Mapping[str, tuple[float, float]]) -> onnx.ModelProto:
    """The same network, its values between the layers in 8 bits and its weights in 7.

    With weights of 7 bits no sum of two products leaves 16 bits, in which some processors add them up: none cuts
    any off.

    Parameters
    ----------
    graph : onnx.ModelProto
        Of `avocet.detector.engines.graph.graph_of`; left as it was.
    ranges : mapping of str to (float, float)
        Of `value_ranges`.

    Returns
    -------
    onnx.ModelProto
        With the same inputs, outputs and card.

    Raises
    ------
    InputError
        If the ranges are not those of this graph.

    References
    ----------
    Jacob et al., 2018, Quantization and training of neural networks for efficient integer-arithmetic-only
    inference. Weights have a scale for each channel, values one for all.

    Examples
    --------
    >>> from avocet.detector.engines.graph import graph_of
    >>> from avocet.detector.model.card import ModelCard
    >>> from avocet.detector.model.network import Network
    >>> from avocet.detector.model.sizes import size_named
    >>> card = ModelCard(size="stint", classes=["roll"], side=64, anchors=[[(9, 9)], [], []], reach=2)
    >>> graph = graph_of(card, Network(size_named("stint"), 1, [1, 0, 0]))
    >>> ranges = value_ranges(graph, [np.full((1, 64, 64, 3), 255, np.uint8)])
    >>> in_eight_bits(graph, ranges).ByteSize() < 0.4 * graph.ByteSize()
    True
    """
    if set(ranges) != _between(graph):
        raise InputError("the ranges of values are not those of this network")
    made = onnx.ModelProto()
    made.CopyFrom(graph)
    for node in made.graph.node:
        node.name = node.name or node.output[0]
    made = onnx.shape_inference.infer_shapes(made)
    limits = {name: (np.float32(low), np.float32(high)) for name, (low, high) in ranges.items()}
    quantizer = QDQQuantizer(
        made,
        per_channel=True,
        reduce_range=True,
        weight_qType=QuantType.QInt8,
        activation_qType=QuantType.QUInt8,
        tensors_range=TensorsData(CalibrationMethod.MinMax, limits),
        nodes_to_quantize=[],
        nodes_to_exclude=[each.name for each in _heads(made)],
        op_types_to_quantize=list(IN_EIGHT_BITS),
        extra_options={},
    )
    quantizer.quantize_model()
    changed: onnx.ModelProto = quantizer.model.model
    changed.metadata_props.add(key=BITS_KEY, value="8")
    return changed


def _heads(graph: onnx.ModelProto) -> list[onnx.NodeProto]:
    """The convolutions that give the outputs."""
    makes = {name: node for node in graph.graph.node for name in node.output}
    return [makes[makes[each.name].input[0]] for each in graph.graph.output]


def _between(graph: onnx.ModelProto) -> set[str]:
    """Names of the values that go into or come out of what is computed in 8 bits."""
    fixed = {each.name for each in graph.graph.initializer}
    heads = {each.output[0] for each in _heads(graph)}
    return {
        name
        for node in graph.graph.node
        if node.op_type in IN_EIGHT_BITS and node.output[0] not in heads
        for name in (*node.input, *node.output)
        if name not in fixed
    }
