"""The work of the process that answers: pictures decoded, looked at in batches as they come, told as JSON."""

import base64
import hashlib
import io
import json
import math
import threading
import time
from collections import OrderedDict, deque
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from werkzeug.datastructures import MultiDict
from werkzeug.formparser import FormDataParser
from werkzeug.http import parse_options_header

from avocet.core.errors import InputError
from avocet.detector.model.finder import Finder
from avocet.files import write_bytes
from avocet.media.deep import Depth, white_for
from avocet.media.pictures import encode_jpeg, picture_depth, read_picture
from avocet.readable import readable
from avocet.work.addresses.frames import NO_PICTURE
from avocet.work.models.bundle_set import Bundles
from avocet.work.models.opening import open_bundles
from avocet.work.use.running.copies import Copier
from avocet.work.use.running.looking import Looker, Row
from avocet.work.use.running.order import DetectionOrder

DECODERS = 2
LOOKERS = 2
"""While one sums up what was found, the other has the network: else it would wait."""

TOGETHER = 8
"""Pictures that one looks at in one go at most: what waits when it is free, never waited for."""

MOST_MODELS = 3
MOST_PICTURES = 16
"""Of one request."""

LATEST = 400
"""Pictures among which the least sure ones are kept for labelling."""

JPEG = b"\xff\xd8"

SUFFIXES = {JPEG: ".jpg", b"\x89P": ".png", b"RI": ".webp", b"BM": ".bmp"}

NOT_YET = np.empty((0, 0, 3), np.uint8)


@dataclass
class _Picture:
    name: str
    content: bytes
    depth: Depth | None
    """Of one of more than 8 bits: what is white in it may depend on the model."""
    pixels: NDArray[np.uint8]
    """None that count where it has a depth, until the model is there."""
    row: Row = field(default_factory=dict)

    @classmethod
    def read(cls, name: str, content: bytes) -> "_Picture":
        """Decode it as far as can be done without the model. Raises `InputError`."""
        deep = None if content.startswith(JPEG) else picture_depth(io.BytesIO(content), name)
        pixels = NOT_YET if deep is not None else read_picture(io.BytesIO(content), name)
        return cls(name, content, deep, pixels)

    def read_for(self, looker: Looker) -> None:
        """Decode what had to wait for the model."""
        if self.depth is not None:
            white = white_for(self.depth, looker.order.white, looker.finder.about.get("white"))
            self.pixels = read_picture(io.BytesIO(self.content), self.name, white=white)


@dataclass(eq=False)
class _Request:
    head: dict[str, Any]
    reply: Callable[[dict[str, Any], bytes], None]
    pictures: list[_Picture]
    begun: float


class Answerer:
    """Answers requests; several at a time.

    Each request is a head and a body. The head names ``bundles`` (as `Bundles`), ``model`` (what to call it),
    ``order`` (as `DetectionOrder`, its minimum score may be missing), ``content_type``, ``annotated`` and
    ``keep`` (folder, share and most of the pictures to be kept). The reply's head has ``status`` and ``pictures``, its
    body is JSON; where the request is refused the head says why, as ``title`` and ``detail``.
    """

    def __init__(self) -> None:
        self._decoding = ThreadPoolExecutor(DECODERS, "decode")
        self._ready: deque[_Request] = deque()
        self._changed, self._closed = threading.Condition(), False
        self._telling = ThreadPoolExecutor(1, "tell")
        self._models: OrderedDict[str, Finder] = OrderedDict()
        self._keeping: dict[str, _Keeper] = {}
        self._opening = threading.Lock()
        self._lookers = [
            threading.Thread(target=self._look, name=f"look {number}", daemon=True)
            for number in range(LOOKERS)
        ]
        for each in self._lookers:
            each.start()

    def take(self, head: dict[str, Any], body: bytes, reply: Callable[[dict[str, Any], bytes], None]) -> None:
        """Take a request; the reply comes from another thread."""
        self._decoding.submit(self._decode, head, body, reply)

    def close(self) -> None:
        self._decoding.shutdown(wait=True, cancel_futures=True)
        with self._changed:
            self._closed = True
            self._changed.notify_all()
        for each in self._lookers:
            each.join()
        self._telling.shutdown(wait=True)

    def _decode(
        self, head: dict[str, Any], body: bytes, reply: Callable[[dict[str, Any], bytes], None]
    ) -> None:
        begun = time.perf_counter()
        try:
            sent = (
                sent_pictures(str(head.get("content_type", "")), body) if head.get("pictures", True) else []
            )
            pictures = [_Picture.read(name, content) for name, content in sent]
        except InputError as error:
            _refuse(reply, 422, NO_PICTURE, str(error))
        except MemoryError:
            _refuse(reply, 413, "Too large", "the picture does not fit into memory")
        except Exception as error:
            _refuse(reply, 500, "Not answered", f"{type(error).__name__}: {error}")
        else:
            with self._changed:
                self._ready.append(_Request(head, reply, pictures, begun))
                self._changed.notify()

    def _look(self) -> None:
        while batch := self._next():
            self._look_at(batch)

    def _next(self) -> list[_Request]:
        """The request that has waited longest, and those that want the same, as far as it is this thread's share."""
        with self._changed:
            self._changed.wait_for(lambda: self._ready or self._closed)
            if not self._ready:
                return []
            share = min(TOGETHER, math.ceil(sum(len(each.pictures) for each in self._ready) / LOOKERS))
            first = self._ready.popleft()
            batch, count = [first], len(first.pictures)
            for each in list(self._ready):
                same = (
                    each.head["bundles"] == first.head["bundles"]
                    and each.head["order"] == first.head["order"]
                )
                if same and count + len(each.pictures) <= share:
                    self._ready.remove(each)
                    batch.append(each)
                    count += len(each.pictures)
            return batch

    def _look_at(self, batch: Sequence[_Request]) -> None:
        try:
            finder = self._model(batch[0].head["bundles"])
        except InputError as error:
            for request in batch:
                _refuse(request.reply, 503, "The model cannot answer", str(error))
            return
        try:
            looker = Looker(finder, DetectionOrder.for_model(finder.about, batch[0].head["order"]))
            pictures = [each for request in batch for each in request.pictures]
            for each in pictures:
                each.read_for(looker)
            rows = looker.look([each.pixels for each in pictures])
            for each, row in zip(pictures, rows, strict=True):
                each.row = {"name": each.name} | row
        except InputError as error:
            for request in batch:
                _refuse(request.reply, 422, "That cannot be used", str(error))
        except MemoryError:
            for request in batch:
                _refuse(request.reply, 413, "Too large", "the pictures do not fit into memory")
        except Exception as error:
            for request in batch:
                _refuse(request.reply, 500, "Not answered", f"{type(error).__name__}: {error}")
        else:
            for request in batch:
                self._telling.submit(self._tell, request, looker)

    def _model(self, said: dict[str, Any]) -> Finder:
        bundles = Bundles(
            tuple(Path(each) for each in said["paths"]),
            tuple(said["weights"]),
            said["overlap_limit"],
            said["method"],
        )
        # A file that was written anew is another model; one that is gone answers on while it is known.
        stamps = [str(path.stat().st_mtime_ns) if path.is_file() else "" for path in bundles.paths]
        key = json.dumps([said, stamps])
        with self._opening:
            found = self._models.get(key)
            if found is None and not all(stamps):
                found = next(
                    (model for kept, model in self._models.items() if json.loads(kept)[0] == said), None
                )
            if found is None:
                found = open_bundles(bundles)
                self._models[key] = found
                while len(self._models) > MOST_MODELS:
                    self._models.popitem(last=False)
            if key in self._models:
                self._models.move_to_end(key)
            return found

    def _tell(self, request: _Request, looker: Looker) -> None:
        try:
            pictures = [self._told(each, request, looker) for each in request.pictures]
            content = {
                "address": request.head.get("address"),
                "model": request.head.get("model"),
                "minimum_score": looker.order.minimum_score,
                "overlap_limit": looker.order.overlap_limit,
                "box": "x1, y1, x2, y2",
                "milliseconds": round(1000 * (time.perf_counter() - request.begun), 2),
                "pictures": pictures,
            }
            body = json.dumps(content, ensure_ascii=False).encode()
        except Exception as error:
            _refuse(request.reply, 500, "Not answered", f"{type(error).__name__}: {error}")
            return
        request.reply({"status": 200, "pictures": len(pictures)}, body)
        keep = request.head.get("keep")
        if keep:
            keeper = self._keeping.setdefault(keep["folder"], _Keeper(Path(keep["folder"])))
            for each in request.pictures:
                keeper.consider(each.content, each.row, looker, float(keep["share"]), int(keep["most"]))

    def _told(self, picture: _Picture, request: _Request, looker: Looker) -> dict[str, Any]:
        row = picture.row
        width, height = row["width"], row["height"]
        told: dict[str, Any] = {
            "name": picture.name,
            "width": width,
            "height": height,
            "detections": [
                each
                | {
                    "fractions": [
                        round(value / size, 6)
                        for value, size in zip(each["box"], (width, height, width, height), strict=True)
                    ]
                }
                for each in row["detections"]
            ],
        }
        if request.head.get("annotated"):
            copier = Copier(looker.order, looker.classes, lambda name, content: None)
            told["annotated_jpeg"] = base64.b64encode(encode_jpeg(copier.drawn(picture.pixels, row))).decode()
        return told


def sent_pictures(content_type: str, body: bytes) -> list[tuple[str, bytes]]:
    """Names and contents of the pictures in a request: the files of a form, or the body itself.

    Raises
    ------
    InputError
        If there is none, or there are too many.
    """
    kind = content_type.split(";")[0].strip().lower()
    files = _form_files(content_type, body) if kind == "multipart/form-data" else [("picture", body)]
    if not files or not any(content for _, content in files):
        raise InputError("the request holds no picture; send one as its body, or several as files of a form")
    if len(files) > MOST_PICTURES:
        raise InputError(f"a request has at most {MOST_PICTURES} pictures, not {len(files)}")
    return files


def _form_files(content_type: str, body: bytes) -> list[tuple[str, bytes]]:
    _, options = parse_options_header(content_type)
    if not options.get("boundary"):
        raise InputError("the form names no boundary")
    parser = FormDataParser(max_form_parts=200, max_form_memory_size=1_000_000)
    try:
        _, _, files = parser.parse(io.BytesIO(body), "multipart/form-data", len(body), options)
    except Exception as error:
        raise InputError(f"the form cannot be read: {error}") from None
    assert isinstance(files, MultiDict)
    return [(readable(each.filename or "picture"), each.stream.read()) for _, each in files.items(multi=True)]


class _Keeper:
    """Keeps a share of the pictures for labelling: those that the model was least sure of."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._latest: deque[float] = deque(maxlen=LATEST)

    def consider(self, content: bytes, row: Row, looker: Looker, share: float, most: int) -> None:
        doubt = doubt_of(row, looker.least)
        self._latest.append(doubt)
        if doubt <= 0 or share <= 0:
            return
        ordered = sorted(self._latest, reverse=True)
        if doubt < ordered[min(len(ordered) - 1, max(0, round(share * len(ordered)) - 1))]:
            return
        digest = hashlib.sha256(content).hexdigest()
        try:
            kept = sorted(self._folder.glob("*.json"), key=lambda each: each.name)
            # The doubt stands first in the name: the least doubtful one goes when there are too many.
            name = f"{int(1e6 * doubt):07d}-{digest[:32]}"
            if any(each.name.endswith(f"-{digest[:32]}.json") for each in kept):
                return
            if len(kept) >= most:
                if kept[0].name >= f"{name}.json":
                    return
                for suffix in (".json", *SUFFIXES.values()):
                    kept[0].with_suffix(suffix).unlink(missing_ok=True)
            suffix = SUFFIXES.get(content[:2], ".jpg" if content[:2] not in (b"II", b"MM") else ".tif")
            write_bytes(self._folder / f"{name}{suffix}", content)
            write_bytes(
                self._folder / f"{name}.json",
                json.dumps(
                    {"doubt": doubt, "file": f"{name}{suffix}", "row": row}, ensure_ascii=False
                ).encode(),
            )
        except (InputError, OSError):
            return  # a full disk: answering goes on


def doubt_of(row: Row, least: NDArray[np.float64]) -> float:
    """How unsure a model was of a picture, from 0 to 1: how near the most doubtful box lies to its minimum score.

    1 is a box that lies right at it; 0 a picture all of whose boxes are sure, or that has none.

    Examples
    --------
    >>> doubt_of({"detections": [{"score": 0.9}], "others": [[0, 0.45, 0, 0, 9, 9]]}, np.array([0.5]))
    0.9
    """
    limit = float(least.min())
    scores = [each["score"] for each in row["detections"]]
    # Suppressed ones lie above it too, and say nothing.
    scores += [each[1] for each in row["others"] if each[1] < least[int(each[0])]]
    if not scores:
        return 0.0
    nearest = min(
        (score - limit) / max(1 - limit, 1e-9) if score >= limit else (limit - score) / max(limit, 1e-9)
        for score in scores
    )
    return float(round(max(0.0, 1 - nearest), 6))


def _refuse(reply: Callable[[dict[str, Any], bytes], None], status: int, title: str, detail: str) -> None:
    reply({"status": status, "pictures": 0, "title": title, "detail": detail}, b"")
