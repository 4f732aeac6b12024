"""Colours of training pictures varied: light, hue, saturation, blur."""

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageFilter

from avocet.detector.augmentation import Augmentation

# RGB to luma and two colour axes, as in the YIQ system; hue turns the axes, saturation stretches them.
_TO_LUMA = np.array([[0.299, 0.587, 0.114], [0.596, -0.274, -0.322], [0.211, -0.523, 0.312]])
_FROM_LUMA = np.linalg.inv(_TO_LUMA)


def recolour(
    pixels: NDArray[np.uint8], augmentation: Augmentation, generator: np.random.Generator
) -> NDArray[np.uint8]:
    """Vary a picture's colours as an `Augmentation` says.

    Parameters
    ----------
    pixels : (H, W, 3) ndarray of uint8
    augmentation : Augmentation
    generator : numpy.random.Generator

    Returns
    -------
    (H, W, 3) ndarray of uint8

    Examples
    --------
    >>> grey = np.full((2, 2, 3), 100, np.uint8)
    >>> recolour(grey, Augmentation(light=0), np.random.default_rng(0))[0, 0].tolist()
    [100, 100, 100]
    """
    if augmentation.light:
        pixels = light(pixels, augmentation.light, generator)
    if augmentation.hue or augmentation.saturation:
        degrees = float(generator.uniform(-augmentation.hue, augmentation.hue))
        factor = float(generator.uniform(1 - augmentation.saturation, 1 + augmentation.saturation))
        pixels = shift_colours(pixels, degrees, factor)
    if augmentation.blur and generator.random() < 0.5:
        radius = float(generator.uniform(0, augmentation.blur))
        pixels = np.asarray(Image.fromarray(pixels).filter(ImageFilter.GaussianBlur(radius)))
    return pixels


def light(pixels: NDArray[np.uint8], gain: float, generator: np.random.Generator) -> NDArray[np.uint8]:
    """Brighten or darken a picture by a random factor, a little differently in each colour."""
    factors = generator.uniform(1 - gain, 1 + gain) * generator.uniform(1 - gain / 5, 1 + gain / 5, 3)
    table = np.clip(np.arange(256)[:, None] * factors[None], 0, 255).round().astype(np.uint8)
    return np.asarray(Image.fromarray(pixels).point(table.T.ravel().tolist()))


def shift_colours(pixels: NDArray[np.uint8], degrees: float, factor: float) -> NDArray[np.uint8]:
    """Turn the hue and stretch the saturation; grey stays grey.

    Examples
    --------
    >>> shift_colours(np.array([[[200, 100, 50]]], np.uint8), 0, 0)[0, 0].tolist()
    [124, 124, 124]
    """
    angle = np.deg2rad(degrees)
    cosine, sine = factor * np.cos(angle), factor * np.sin(angle)
    turned = np.array([[1, 0, 0], [0, cosine, -sine], [0, sine, cosine]])
    matrix = (_FROM_LUMA @ turned @ _TO_LUMA).T.astype(np.float32)
    mixed = pixels.reshape(-1, 3).astype(np.float32) @ matrix
    return np.asarray(np.clip(mixed + 0.5, 0, 255).astype(np.uint8).reshape(pixels.shape))
