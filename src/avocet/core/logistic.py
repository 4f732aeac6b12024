"""The logistic function and its inverse, in one place for decoding, explaining, calibration and the exported script.

SciPy has both; loading its module takes longer than finding the boxes of a picture.
"""

import numpy as np
from numpy.typing import ArrayLike

from avocet.core.boxes import Array


def sigmoid(values: ArrayLike) -> Array:
    """1 / (1 + exp(-values)) without overflow.

    Parameters
    ----------
    values : array_like

    Returns
    -------
    ndarray of float64
        Of the same shape, from 0 to 1, right to 1e-16.

    Examples
    --------
    >>> sigmoid([-800.0, 0.0, 2.0]).round(6).tolist()
    [0.0, 0.5, 0.880797]
    """
    halves: Array = 0.5 * (1 + np.tanh(0.5 * np.asarray(values, dtype=np.float64)))
    return halves


def log_odds(probability: float) -> float:
    """What `sigmoid` makes a probability of.

    Parameters
    ----------
    probability : float
        Above 0 and below 1.

    Examples
    --------
    >>> round(log_odds(0.8), 6)
    1.386294
    """
    return float(np.log(probability) - np.log1p(-probability))
