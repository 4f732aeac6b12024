"""Finding boxes from other Python programs."""

import json
from collections.abc import Collection, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.error import HTTPError, URLError
from urllib.parse import urlencode, urlsplit
from urllib.request import Request, urlopen

import numpy as np
from numpy.typing import NDArray

from avocet.core.errors import InputError
from avocet.core.raw.candidates import OVERLAP_LIMIT
from avocet.detector.model.predictor import Predictor
from avocet.media.pictures import encode_png
from avocet.work.use.running.looking import Looker
from avocet.work.use.running.order import DetectionOrder


@dataclass(frozen=True)
class FoundBox:
    """A box that a model has found.

    Attributes
    ----------
    class_name : str
    score : float
        From 0 to 1.
    box : (float, float, float, float)
        ``x1, y1, x2, y2`` in pixels of the picture, from its top left corner.
    """

    class_name: str
    score: float
    box: tuple[float, ...]


class Model:
    """A trained detector, ready for pictures. `avocet.open_model` opens one.

    Parameters
    ----------
    predictor : Predictor
    """

    def __init__(self, predictor: Predictor) -> None:
        self._predictor = predictor

    @classmethod
    def of_bundle(cls, path: str | Path) -> "Model":
        """Read a model bundle. Raises `InputError` if it is not one."""
        return cls(Predictor.from_bundle(Path(path)))

    @property
    def classes(self) -> list[str]:
        """Names of the classes that it knows."""
        return list(self._predictor.classes)

    @property
    def minimum_score(self) -> float:
        """The lowest score that it is meant to be used with: of best F1 on its validation pictures."""
        return self._predictor.card.minimum_score

    def find(
        self,
        pixels: NDArray[np.uint8],
        minimum_score: float | None = None,
        overlap_limit: float = OVERLAP_LIMIT,
        classes: Collection[str] | None = None,
    ) -> list[FoundBox]:
        """Find boxes in a picture.

        Parameters
        ----------
        pixels : (H, W, 3) ndarray of uint8
            Red, green, blue.
        minimum_score : float, optional
            The model's own by default, or those that a person has chosen for its classes.
        overlap_limit : float
            IoU above which the worse of two boxes of a class goes.
        classes : collection of str, optional
            Only boxes of these.

        Returns
        -------
        list of FoundBox
            Best score first.

        Raises
        ------
        InputError
            If the pixels are not such an array, a limit lies outside 0 to 1, or a class is unknown.
        """
        check_pixels(pixels)
        if classes is not None and not classes:
            return []
        wished = {"minimum_score": minimum_score, "overlap_limit": overlap_limit, "only": list(classes or ())}
        order = DetectionOrder.for_model(self._predictor.about, wished)
        (row,) = Looker(self._predictor, order).look([pixels])
        return found_boxes(row)


def found_boxes(row: Mapping[str, Any]) -> list[FoundBox]:
    """What a row tells of, as detection runs and addresses tell it."""
    return [
        FoundBox(each["class"], float(each["score"]), tuple(float(value) for value in each["box"]))
        for each in row["detections"]
    ]


class ModelAtAddress:
    """A model that answers under an address of a server. `avocet.at_address` makes one.

    Parameters
    ----------
    url : str
        Of the address: ``http://127.0.0.1:8321/api/v1/addresses/belt``.
    key : str
    seconds : float
        After which an answer is not waited for any more.
    """

    def __init__(self, url: str, key: str, seconds: float = 60.0) -> None:
        if urlsplit(url).scheme not in ("http", "https"):
            raise InputError(f"{url} is no address that begins with http:// or https://")
        self._url, self._key, self._seconds = url.rstrip("/"), key, seconds

    def find(
        self,
        pixels: NDArray[np.uint8],
        minimum_score: float | None = None,
        overlap_limit: float | None = None,
        classes: Collection[str] | None = None,
    ) -> list[FoundBox]:
        """Find boxes in a picture, which is sent as a PNG.

        Parameters
        ----------
        pixels : (H, W, 3) ndarray of uint8
            Red, green, blue.
        minimum_score, overlap_limit : float, optional
            Those of the address by default.
        classes : collection of str, optional
            Only boxes of these.

        Returns
        -------
        list of FoundBox
            Best score first.

        Raises
        ------
        InputError
            If the server cannot be reached, or refuses; with what it says.
        """
        check_pixels(pixels)
        wished = [("minimum_score", minimum_score), ("overlap_limit", overlap_limit)]
        query = [(name, str(value)) for name, value in wished if value is not None]
        query += [("class", name) for name in classes or ()]
        asked = Request(
            f"{self._url}/detections?{urlencode(query)}",
            data=encode_png(pixels),
            headers={"Authorization": f"Bearer {self._key}", "Content-Type": "image/png"},
        )
        try:
            with urlopen(asked, timeout=self._seconds) as reply:
                said = json.load(reply)
        except HTTPError as error:
            raise InputError(_reason(error)) from None
        except (URLError, TimeoutError) as error:
            raise InputError(f"{self._url} cannot be reached: {getattr(error, 'reason', error)}") from None
        return found_boxes(said["pictures"][0])


def _reason(error: HTTPError) -> str:
    try:
        return str(json.load(error)["detail"])
    except (ValueError, KeyError, TypeError):
        return f"the server answers {error.code} {error.reason}"


def check_pixels(pixels: NDArray[np.uint8]) -> None:
    """Raise `InputError` unless these are the pixels of a picture."""
    if pixels.dtype != np.uint8 or pixels.ndim != 3 or pixels.shape[2] != 3 or 0 in pixels.shape:
        raise InputError(f"pixels must be (height, width, 3) of uint8, not {pixels.shape} of {pixels.dtype}")
