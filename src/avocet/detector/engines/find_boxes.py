"""Find boxes with an exported model: NumPy and ONNX Runtime, nothing else.

    python find_boxes.py model.onnx picture.jpg another.png

prints one line of JSON a picture: class, score and box ``[x1, y1, x2, y2]`` in pixels of the picture. Portable
pixmaps (``.ppm``) and arrays (``.npy``, height × width × 3 of uint8) are read as they are, other pictures by
Pillow where it is installed. In a program:

    model = ExportedModel("model.onnx")
    for found in model.find(pixels):
        print(found["class"], found["score"], found["box"])

This file stands alone: it may be copied, changed and shipped beside the model.
"""

import json
import math
import sys
from pathlib import Path
from typing import Any

import numpy as np
import onnxruntime
from numpy.typing import NDArray

Array = NDArray[Any]

MOST = 1000
MEASURING = 0.005
CALIBRATED = 0.05
PRECISION = 22
"""Bits behind the point of the shares that pixels are added up with."""

DEEP_COLOURS = [f"{kind};16{order}" for kind in ("RGB", "RGBX", "RGBA") for order in "BLN"] + ["LA;16B"]
"""How Pillow calls the layouts of 16 bits a channel of which it keeps 8."""


class ExportedModel:
    """An exported model.

    ``minimum_score`` and ``overlap_limit`` are those of the model unless given.
    """

    def __init__(
        self, path: str | Path, minimum_score: float | None = None, overlap_limit: float = 0.5
    ) -> None:
        self._session = onnxruntime.InferenceSession(str(path), providers=["CPUExecutionProvider"])
        self.card = json.loads(self._session.get_modelmeta().custom_metadata_map["card"])
        self.classes = self.card["classes"]
        default = self.card["minimum_score"] if minimum_score is None else minimum_score
        own = self.card["minimum_scores"] if minimum_score is None else {}
        self._least = np.array([own.get(name, default) for name in self.classes])
        self._overlap_limit = overlap_limit

    def find(self, pixels: Array) -> list[dict[str, Any]]:
        """Boxes of a picture, (height, width, 3) uint8, best score first."""
        given, place = self._laid_in(pixels)
        raw = self._raw(given)
        boxes, scores, classes = self._decoded(raw)
        height, width = pixels.shape[:2]
        scale_x, scale_y, left, top = place
        boxes = (boxes - [left, top, left, top]) / [scale_x, scale_y, scale_x, scale_y]
        boxes = np.clip(boxes, 0, [width, height, width, height])
        seen = (scores >= self._least.min()) & (boxes[:, 2] > boxes[:, 0]) & (boxes[:, 3] > boxes[:, 1])
        order = np.flatnonzero(seen)
        order = order[np.argsort(-scores[order], kind="stable")[:MOST]]
        order = order[scores[order] >= self._least[classes[order]]]
        kept = suppressed(boxes[order], classes[order], self._overlap_limit)
        return [
            {"class": self.classes[classes[n]], "score": float(scores[n]), "box": boxes[n].tolist()}
            for n in order[kept]
        ]

    def _raw(self, given: Array) -> list[tuple[int, Array, Array]]:
        """Raw outputs: (anchors, 5 + classes, rows, columns) for each level that is used."""
        depth = 5 + len(self.classes)
        levels = []
        for stride, anchors in zip(self.card["strides"], self.card["anchors"], strict=True):
            if anchors:
                values = self._session.run([f"stride_{stride}"], {"pixels": given[None]})[0]
                values = values.reshape(
                    len(anchors), depth, given.shape[0] // stride, given.shape[1] // stride
                )
                levels.append((stride, np.array(anchors, dtype=float), values.astype(float)))
        return levels

    def _laid_in(self, pixels: Array) -> tuple[Array, tuple[float, float, int, int]]:
        """The picture scaled into the network's input, centred and padded."""
        height, width = pixels.shape[:2]
        side, step = self.card["side"], 32
        scale = side / max(width, height)
        inner_width, inner_height = (min(side, max(1, round(each * scale))) for each in (width, height))
        input_width, input_height = (math.ceil(each / step) * step for each in (inner_width, inner_height))
        left, top = (input_width - inner_width) // 2, (input_height - inner_height) // 2
        made = np.empty((input_height, input_width, 3), dtype=np.uint8)
        made[:] = self.card["padding"]
        made[top : top + inner_height, left : left + inner_width] = scaled(pixels, inner_width, inner_height)
        return made, (inner_width / width, inner_height / height, left, top)

    def _decoded(self, raw: list[tuple[int, Array, Array]]) -> tuple[Array, Array, Array]:
        """Boxes in pixels of the input, scores and classes of every anchor of every cell."""
        parts = []
        for stride, anchors, values in raw:
            _, _, rows, columns = values.shape
            flat = values.transpose(2, 3, 0, 1)
            row, column = np.mgrid[:rows, :columns]
            cell = np.stack([column, row], axis=-1)[:, :, None]
            centre = (cell + 0.5 + self.card["reach"] * (logistic(flat[..., 0:2]) - 0.5)) * stride
            half = anchors * np.exp(np.minimum(flat[..., 2:4], 6.0)) / 2
            by_class = logistic(flat[..., 4:5]) * logistic(flat[..., 5:])
            parts.append(
                (
                    np.concatenate([centre - half, centre + half], axis=-1).reshape(-1, 4),
                    by_class.reshape(-1, len(self.classes)),
                )
            )
        boxes, by_class = (np.concatenate(each) for each in zip(*parts, strict=True))
        classes = by_class.argmax(axis=1)
        return boxes, self._calibrated(by_class.max(axis=1)), classes

    def _calibrated(self, scores: Array) -> Array:
        """Scores as its validation has shown them to be right: beta calibration (Kull et al., 2017)."""
        if self.card["calibration"] is None:
            return scores
        base, rise, fall = self.card["calibration"]
        values = np.clip(scores, 1e-12, 1 - 1e-12)
        fitted = base + rise * np.log(values / CALIBRATED) - fall * np.log((1 - values) / (1 - CALIBRATED))
        lowest = math.log(MEASURING / (1 - MEASURING))
        share = np.log(values / MEASURING) / math.log(CALIBRATED / MEASURING)
        return logistic(np.where(values < CALIBRATED, lowest + share * (base - lowest), fitted))


def logistic(values: Array) -> Array:
    """1 / (1 + exp(-values)) without overflow."""
    halves: Array = 0.5 * (1 + np.tanh(0.5 * values))
    return halves


def suppressed(boxes: Array, classes: Array, overlap_limit: float) -> list[int]:
    """Places of the boxes that no better box of their class overlaps; best come first."""
    areas = (boxes[:, 2] - boxes[:, 0]) * (boxes[:, 3] - boxes[:, 1])
    kept: list[int] = []
    for place in range(len(boxes)):
        rivals = [each for each in kept if classes[each] == classes[place]]
        low = np.maximum(boxes[rivals, :2], boxes[place, :2])
        high = np.minimum(boxes[rivals, 2:], boxes[place, 2:])
        shared = np.clip(high - low, 0, None).prod(axis=1)
        if not (shared / (areas[rivals] + areas[place] - shared) > overlap_limit).any():
            kept.append(place)
    return kept


def scaled(pixels: Array, width: int, height: int) -> Array:
    """A picture of another size: averaged over whole blocks, the rest by a triangle filter, axis after axis.

    In whole numbers, to the very values that Pillow gives, as with which the model was trained.
    """
    if pixels.shape[1] == width and pixels.shape[0] == height:
        return pixels
    size_x, size_y = float(pixels.shape[1]), float(pixels.shape[0])
    block_x, block_y = max(1, int(size_x / width)), max(1, int(size_y / height))
    if block_x > 1 or block_y > 1:
        pixels = averaged(pixels, block_x, block_y)
        size_x, size_y = size_x / block_x, size_y / block_y
    across, down = weights(pixels.shape[1], size_x, width), weights(pixels.shape[0], size_y, height)
    return filtered(filtered(pixels.transpose(1, 0, 2), across).transpose(1, 0, 2), down)


def averaged(pixels: Array, block_x: int, block_y: int) -> Array:
    """Means over blocks; those at the far edges may be smaller."""
    x, y = np.arange(0, pixels.shape[1], block_x), np.arange(0, pixels.shape[0], block_y)
    sums = np.add.reduceat(np.add.reduceat(pixels.astype(np.int64), y, axis=0), x, axis=1)
    counts = np.outer(np.diff([*y, pixels.shape[0]]), np.diff([*x, pixels.shape[1]]))[..., None]
    means: Array = ((sums + counts // 2) * (2**24 // counts) >> 24).astype(np.uint8)
    return means


def filtered(pixels: Array, shares: Array) -> Array:
    """Rows of a picture, each a sum of shares of its rows, rounded."""
    # Sums of whole numbers below 2**53 are exact in floats, which are multiplied many times as quickly.
    sums = np.tensordot(shares, pixels.astype(float), axes=(1, 0)).astype(np.int64)
    made: Array = np.clip((sums + (1 << PRECISION - 1)) >> PRECISION, 0, 255).astype(np.uint8)
    return made


def weights(count: int, size: float, wanted: int) -> Array:
    """(wanted, count) shares of input pixels in each output pixel, in parts of 2 ** PRECISION."""
    # Pillow is told sizes in single precision.
    scale = float(np.float32(size)) / wanted
    reach = max(scale, 1.0)
    middles = (np.arange(wanted) + 0.5) * scale
    first = np.clip(np.floor(middles - reach + 0.5), 0, None)
    last = np.clip(np.floor(middles + reach + 0.5), None, count)
    places = np.arange(count)
    shares = np.clip(1 - np.abs((places - middles[:, None] + 0.5) * (1 / reach)), 0, None)
    shares[(places < first[:, None]) | (places >= last[:, None])] = 0
    shares /= shares.cumsum(axis=1)[:, -1:]
    return np.asarray(np.floor(0.5 + shares * (1 << PRECISION)))


def read(path: Path, white: float | None = None) -> Array:
    """Pixels of a picture's file; ``white`` is the value of white in one of more than 8 bits that does not say it."""
    if path.suffix == ".npy":
        pixels: Array = np.load(path, allow_pickle=False)
        return pixels
    if path.suffix == ".ppm":
        kind, width, height, most, _ = path.read_bytes().split(maxsplit=4)
        if kind != b"P6" or most != b"255":
            raise SystemExit(f"{path} is not a portable pixmap of 8 bits")
        # Behind the largest value stands one white space, however the pixels begin.
        content = path.read_bytes()[-int(width) * int(height) * 3 :]
        return np.frombuffer(content, dtype=np.uint8).reshape(int(height), int(width), 3)
    try:
        from PIL import Image, ImageOps
    except ImportError:
        raise SystemExit(f"{path}: to read this kind of picture, install Pillow") from None
    picture: Any = Image.open(path)
    if has_more_bits(picture):
        values = deep_values(path)
        white = declared_white(picture, path, values) or white or least_white(values)
        picture = Image.fromarray(eight_bits(values, white))
    else:
        picture = ImageOps.exif_transpose(picture)
    if picture.mode in ("RGBA", "LA", "PA", "La", "RGBa") or "transparency" in picture.info:
        layered = picture.convert("RGBA")
        paper = Image.new("RGBA", layered.size, (255, 255, 255, 255))
        return np.asarray(Image.alpha_composite(paper, layered).convert("RGB"))
    return np.asarray(picture.convert("RGB"))


def shared_white(paths: list[Path]) -> float | None:
    """One white for pictures of more than 8 bits that do not say what theirs is: all of them fit into it."""
    found = []
    for path in paths:
        if path.suffix.lower() in (".png", ".tif", ".tiff"):
            try:
                from PIL import Image

                picture: Any = Image.open(path)
            except (ImportError, OSError):
                continue  # said when it is read
            if has_more_bits(picture):
                values = deep_values(path)
                if declared_white(picture, path, values) is None:
                    found.append(least_white(values))
    return max(found, default=None)


def has_more_bits(picture: Any) -> bool:
    """Whether a picture that is not loaded yet has more than 8 bits a channel."""
    return bool(
        picture.mode.startswith("I;16") or picture.mode in ("I", "F") or layout(picture) in DEEP_COLOURS
    )


def layout(picture: Any) -> str:
    """How its values lie in the file of a picture that is not loaded yet, such as ``RGB;16B``."""
    found = {str(each.args[0] if isinstance(each.args, tuple) else each.args) for each in picture.tile}
    return found.pop() if len(found) == 1 else ""


def deep_values(path: Path) -> Array:
    """All bits of a picture's values, upright.

    Of colours Pillow keeps the upper byte, and the lower one where it is told that bytes come in the other order.
    """
    from PIL import Image, ImageOps

    picture: Any = Image.open(path)
    lies = layout(picture)
    if lies not in DEEP_COLOURS:
        return np.asarray(ImageOps.exif_transpose(picture))
    turned: Any = Image.open(path)
    order = {"B": "L", "L": "B", "N": "B" if sys.byteorder == "little" else "L"}[lies[-1]]
    other = "RGBA" if lies == "LA;16B" else lies[:-1] + order
    turned.tile = [
        each._replace(args=(other, *each.args[1:]) if isinstance(each.args, tuple) else other)
        for each in turned.tile
    ]
    high, low = (np.asarray(ImageOps.exif_transpose(each)) for each in (picture, turned))
    if lies == "LA;16B":
        low = low[..., [1, 1, 1, 3]]
    values: Array = (high.astype(np.uint16) << 8) | low
    return values


def declared_white(picture: Any, path: Path, values: Array) -> float | None:
    """What a picture's file says is white."""
    if picture.format == "PNG":
        bits = significant_bits(path.read_bytes())
        if not bits:
            return None
        # The standard wants them scaled to all 16 bits; not every program does.
        some, step = some_of(values), 2 ** (16 - bits)
        scaled_up = (some >= 2**bits).any() or (step > 2 and (some % step <= 1).all())
        return 65535.0 if scaled_up else float(2**bits - 1)
    tags = getattr(picture, "tag_v2", {})
    for tag in (341, 281):
        told = tags.get(tag)
        value = told[0] if isinstance(told, tuple) and told else told
        if isinstance(value, int | float) and math.isfinite(value) and value > 0:
            return float(value)
    return None


def some_of(values: Array) -> Array:
    """Some of the values of a picture, without how opaque they are."""
    step = max(1, round((values.shape[0] * values.shape[1] / 1_000_000) ** 0.5))
    some = values[::step, ::step]
    return some[..., :3] if some.ndim == 3 else some


def least_white(values: Array) -> float:
    """The least of 8, 10, 12, 14 or 16 bits, or 1 for floating-point numbers, that nearly all values fit into."""
    some = some_of(values)
    some = some[np.isfinite(some)]
    high = float(np.percentile(some, 99.9)) if some.size else 0.0
    usual = [1.0] * (values.dtype.kind == "f") + [255.0, 1023.0, 4095.0, 16383.0, 65535.0]
    return next((white for white in usual if high <= white), usual[-1])


def significant_bits(content: bytes) -> int:
    """The bits of a PNG's values that mean something, as its ``sBIT`` chunk says; 0 where it has none."""
    at = 8
    while len(content) >= at + 8:
        length, kind = int.from_bytes(content[at : at + 4], "big"), content[at + 4 : at + 8]
        if kind == b"sBIT" and 0 < length <= 4:
            bits = max(content[at + 8 : at + 8 + length])
            return bits if 8 <= bits <= 16 else 0
        if kind in (b"PLTE", b"IDAT"):
            break
        at += length + 12
    return 0


def eight_bits(values: Array, white: float) -> Array:
    """Grey values as red, green and blue of 8 bits, colours as they are, with how opaque they are where that is known."""
    known = np.nan_to_num(values.astype(float), nan=0.0, posinf=white, neginf=0.0)
    if known.ndim == 2:
        known = np.repeat(known[..., None], 3, axis=2)
    whites = [white] * 3
    if known.shape[2] == 4:
        upper = int(known[..., 3].max()) >> 8
        whites.append(next(each for each in (255, 1023, 4095, 16383, 65535) if upper <= each >> 8))
    made: Array = np.clip(known / whites * 255, 0, 255).round().astype(np.uint8)
    return made


def main() -> None:
    """Print what is found in each picture."""
    if len(sys.argv) < 3:
        raise SystemExit("usage: python find_boxes.py model.onnx picture [picture ...]")
    model = ExportedModel(sys.argv[1])
    white = model.card.get("white") or shared_white([Path(name) for name in sys.argv[2:]])
    for name in sys.argv[2:]:
        print(json.dumps({"name": name, "boxes": model.find(read(Path(name), white))}))


if __name__ == "__main__":
    main()
