"""A trained network as an ONNX graph, written layer by layer.

The graph takes the pixels as they lie in the network's input, so that whoever runs it needs neither this
program nor torch, and carries its model's card: classes, anchors, strides, side, calibration.
"""

from collections.abc import Sequence
from typing import Any

import numpy as np
import onnx
from numpy.typing import ArrayLike, NDArray
from onnx import TensorProto, helper, numpy_helper
from torch import Tensor, nn

from avocet.detector.engines.naming import CARD_KEY, INPUT, output_name
from avocet.detector.model.card import ModelCard
from avocet.detector.model.layers import ConvUnit, InvertedResidual, Residual
from avocet.detector.model.network import Network
from avocet.detector.model.sizes import STRIDES

OPERATORS, INTERMEDIATE = 17, 8
"""Versions of the operators and of the format: the least that has all that is needed, read most widely."""


def graph_of(card: ModelCard, network: Network) -> onnx.ModelProto:
    """A network as an ONNX graph.

    Parameters
    ----------
    card : ModelCard
        Goes along as JSON under ``card`` in the graph's metadata.
    network : Network
        Its normalisations are folded into its convolutions.

    Returns
    -------
    onnx.ModelProto
        Input ``pixels``, (B, H, W, 3) uint8, sides multiples of 32, the picture laid in and padded. Output
        ``stride_8`` and its like for each level that is used, (B, A · (5 + C), H / stride, W / stride)
        float32: anchor by anchor t_x, t_y, t_w, t_h, t_o and the class logits.

    References
    ----------
    ONNX, Open Neural Network Exchange: the standard's operators of version 17.
    """
    network.fold()
    writer = _Writer()
    x = writer.add("Cast", [INPUT], to=TensorProto.FLOAT)
    x = writer.add("Transpose", [x], perm=[0, 3, 1, 2])
    x = writer.add("Div", [x, writer.constant("most", np.array(255, dtype=np.float32))])
    x = writer.unit(network.stem, x)
    features = []
    for stage in network.stages:
        assert isinstance(stage, nn.Sequential)
        for part in stage:
            x = writer.part(part, x)
        features.append(x)
    features = features[-len(STRIDES) :]
    used = [level for level, count in enumerate(network.anchors) if count]
    outputs, merged = [], ""
    for level in reversed(range(min(used), len(STRIDES))):
        own = writer.unit(network.lateral[level], features[level])
        merged = writer.add("Add", [own, writer.doubled(merged)]) if merged else own
        if level in used:
            raw = writer.convolution(network.heads[level], writer.unit(network.smooth[level], merged))
            outputs.append((level, raw))
    for level, raw in outputs:
        writer.nodes.append(helper.make_node("Identity", [raw], [output_name(STRIDES[level])]))
    return _model(card, network, writer, used)


def _model(card: ModelCard, network: Network, writer: "_Writer", used: Sequence[int]) -> onnx.ModelProto:
    depth = 5 + network.classes
    shapes: list[tuple[str, list[str | int | None]]] = [
        (output_name(STRIDES[level]), ["batch", network.anchors[level] * depth, f"rows_{level}", f"columns_{level}"])
        for level in used
    ]  # fmt: skip
    graph = helper.make_graph(
        writer.nodes,
        "detector",
        [helper.make_tensor_value_info(INPUT, TensorProto.UINT8, ["batch", "height", "width", 3])],
        [helper.make_tensor_value_info(name, TensorProto.FLOAT, shape) for name, shape in shapes],
        writer.constants,
    )
    model = helper.make_model(
        graph,
        producer_name="avocet",
        opset_imports=[helper.make_opsetid("", OPERATORS)],
        ir_version=INTERMEDIATE,
    )
    helper.set_model_props(model, {CARD_KEY: card.model_dump_json()})
    onnx.checker.check_model(model)
    return model


class _Writer:
    """Collects nodes and constants, with a name for every value between them."""

    def __init__(self) -> None:
        self.nodes: list[onnx.NodeProto] = []
        self.constants: list[onnx.TensorProto] = []

    def add(self, kind: str, inputs: Sequence[str], **attributes: Any) -> str:
        made = f"{kind.lower()}_{len(self.nodes)}"
        self.nodes.append(helper.make_node(kind, list(inputs), [made], **attributes))
        return made

    def constant(self, name: str, values: NDArray[np.generic]) -> str:
        self.constants.append(numpy_helper.from_array(np.ascontiguousarray(values), name))
        return name

    def once(self, name: str, values: ArrayLike) -> str:
        """A constant that several nodes take."""
        if all(each.name != name for each in self.constants):
            self.constant(name, np.array(values, dtype=np.float32))
        return name

    def convolution(self, layer: nn.Module, x: str) -> str:
        assert isinstance(layer, nn.Conv2d)
        assert layer.bias is not None
        number, (pad_y, pad_x) = len(self.nodes), _pair(layer.padding)
        given = [
            x,
            self.constant(f"weight_{number}", _array(layer.weight)),
            self.constant(f"bias_{number}", _array(layer.bias)),
        ]
        return self.add(
            "Conv",
            given,
            kernel_shape=list(layer.kernel_size),
            strides=list(layer.stride),
            group=layer.groups,
            pads=[pad_y, pad_x, pad_y, pad_x],
        )

    def part(self, part: nn.Module, x: str) -> str:
        """A stage's part, of whichever kind."""
        if isinstance(part, Residual):
            return self.add("Add", [x, self.unit(part.widen, self.unit(part.narrow, x))])
        if isinstance(part, InvertedResidual):
            made = self.unit(part.narrow, self.unit(part.each, self.unit(part.widen, x)))
            return self.add("Add", [x, made]) if part.shortcut else made
        return self.unit(part, x)

    def unit(self, part: nn.Module, x: str) -> str:
        assert isinstance(part, ConvUnit)
        made = self.convolution(part.conv, x)
        if isinstance(part.act, nn.SiLU):
            return self.add("Mul", [made, self.add("Sigmoid", [made])])
        if isinstance(part.act, nn.ReLU6):
            return self.add("Clip", [made, self.once("least", 0), self.once("greatest", 6)])
        return made

    def doubled(self, x: str) -> str:
        """Every value twice in both directions."""
        return self.add(
            "Resize",
            [x, "", self.once("double", [1, 1, 2, 2])],
            mode="nearest",
            coordinate_transformation_mode="asymmetric",
            nearest_mode="floor",
        )


def _array(values: Tensor) -> NDArray[np.float32]:
    return np.asarray(values.detach().cpu().numpy(), dtype=np.float32)


def _pair(padding: object) -> tuple[int, int]:
    assert isinstance(padding, tuple)
    return int(padding[0]), int(padding[1])
