"""Avocet: annotate bounding boxes, train a detector, measure it and use it."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from pathlib import Path

    from avocet.asking import Model, ModelAtAddress

__version__ = "0.1.0"


def open_model(path: str | Path) -> Model:
    """Open a model bundle to find boxes with it.

    Parameters
    ----------
    path : str or Path
        A bundle as it is downloaded from a run.

    Returns
    -------
    avocet.asking.Model

    Raises
    ------
    avocet.core.errors.InputError
        If the file is no bundle, or is damaged.

    Examples
    --------
    >>> import avocet
    >>> import numpy as np
    >>> from avocet.core.errors import InputError
    >>> try:
    ...     avocet.open_model("nowhere.zip").find(np.zeros((54, 96, 3), np.uint8))
    ... except InputError as error:
    ...     print(error)
    nowhere.zip: there is no such model bundle
    """
    from avocet.asking import Model

    return Model.of_bundle(path)


def at_address(url: str, key: str) -> ModelAtAddress:
    """Find boxes with a model that answers under an address of a server.

    Parameters
    ----------
    url : str
        Such as ``http://127.0.0.1:8321/api/v1/addresses/belt``.
    key : str

    Returns
    -------
    avocet.asking.ModelAtAddress

    Raises
    ------
    avocet.core.errors.InputError
        If the url is none.

    Examples
    --------
    >>> import avocet
    >>> import numpy as np
    >>> from avocet.core.errors import InputError
    >>> belt = avocet.at_address("http://127.0.0.1:9/api/v1/addresses/belt", "the key")
    >>> try:
    ...     belt.find(np.zeros((54, 96, 3), np.uint8))
    ... except InputError as error:
    ...     print(error)
    http://127.0.0.1:9/api/v1/addresses/belt cannot be reached: [Errno 111] Connection refused
    """
    from avocet.asking import ModelAtAddress

    return ModelAtAddress(url, key)
