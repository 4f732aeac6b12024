"""Colours of training pictures varied: light, hue, saturation, blur."""

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageFilter

from avocet.detector.pictures.augmentation import Augmentation

# RGB to luma and two colour axes, as in the YIQ system; hue turns the axes, saturation stretches them.
_TO_LUMA = np.array([[0.299, 0.587, 0.114], [0.596, -0.274, -0.322], [0.211, -0.523, 0.312]])
_FROM_LUMA = np.linalg.inv(_TO_LUMA)


def recolour(
    pixels: NDArray[np.uint8], augmentation: Augmentation, generator: np.random.Generator
) -> NDArray[np.uint8]:
    """Vary a picture's hue, saturation and sharpness as an `Augmentation` says.

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
    >>> recolour(grey, Augmentation(hue=90), np.random.default_rng(0))[0, 0].tolist()
    [100, 100, 100]
    """
    if augmentation.hue or augmentation.saturation:
        degrees = float(generator.uniform(-augmentation.hue, augmentation.hue))
        factor = float(generator.uniform(1 - augmentation.saturation, 1 + augmentation.saturation))
        pixels = shift_colours(pixels, degrees, factor)
    if augmentation.blur and generator.random() < 0.5:
        radius = float(generator.uniform(0, augmentation.blur))
        pixels = np.asarray(Image.fromarray(pixels).filter(ImageFilter.GaussianBlur(radius)))
    return pixels


def drawn_light(light: float, generator: np.random.Generator) -> NDArray[np.float32]:
    """Random factors for red, green and blue: brighter or darker, a little different in each colour.

    They are applied where pixels become numbers for the network, which costs next to nothing
    there; `lit` shows what comes of it.
    """
    if not light:
        return np.ones(3, dtype=np.float32)
    factors = generator.uniform(1 - light, 1 + light) * generator.uniform(1 - light / 5, 1 + light / 5, 3)
    return np.asarray(factors, dtype=np.float32)


def lit(pixels: NDArray[np.uint8], light: NDArray[np.float32]) -> NDArray[np.uint8]:
    """A picture in such a light.

    Examples
    --------
    >>> lit(np.full((1, 1, 3), 200, np.uint8), np.array([0.5, 1, 2], np.float32)).tolist()
    [[[100, 200, 255]]]
    """
    return np.asarray(np.clip(pixels * light + 0.5, 0, 255).astype(np.uint8))


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
