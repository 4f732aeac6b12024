"""JPEGs decoded straight into an array: to Pillow's very values, and what Pillow alone can read or say left to it."""

import io
from itertools import product

import numpy as np
import pytest
from PIL import Image

from avocet.core.errors import InputError
from avocet.media import jpeg as jpeg_module
from avocet.media import pictures
from avocet.media.jpeg import decoded_straight
from avocet.media.pictures import read_picture

random = np.random.default_rng(4)


def jpeg(width, height, mode="RGB", smooth=False, **how):
    """A JPEG of noise, or of something smooth as photographs are."""
    values = random.integers(0, 255, (height, width, 3), dtype=np.uint8)
    if smooth:
        ramp = np.linspace(0, 255, width * height).reshape(height, width)
        values = np.stack([ramp, ramp[::-1], 255 - ramp], axis=2).astype(np.uint8)
    file = io.BytesIO()
    Image.fromarray(values).convert(mode).save(file, "JPEG", **how)
    return file


@pytest.fixture
def by_pillow(monkeypatch):
    """Reads as if there were no other way."""

    def read(file):
        with monkeypatch.context() as patched:
            patched.setattr(pictures, "decoded_straight", lambda opened, source: None)
            return read_picture(file, "x.jpg")

    return read


@pytest.mark.slow
@pytest.mark.parametrize("subsampling", [0, 1, 2])
@pytest.mark.parametrize("mode", ["RGB", "L"])
def test_the_values_are_those_of_pillow(by_pillow, subsampling, mode):
    shapes = product((8, 9, 64, 331), (8, 67), (30, 75, 97), (False, True), (False, True))
    for width, height, quality, progressive, smooth in shapes:
        file = jpeg(
            width, height, mode, smooth, quality=quality, progressive=progressive, subsampling=subsampling
        )
        straight = decoded_straight(Image.open(file), file)
        assert straight is not None
        np.testing.assert_array_equal(straight, by_pillow(file))
        np.testing.assert_array_equal(straight, read_picture(file, "x.jpg"))


@pytest.mark.parametrize("orientation", range(1, 9))
def test_it_is_turned_upright(by_pillow, tmp_path, orientation):
    exif = Image.Exif()
    exif[0x0112] = orientation
    file = jpeg(40, 24, exif=exif)
    path = tmp_path / "x.jpg"
    path.write_bytes(file.getvalue())
    assert read_picture(path).shape == ((24, 40, 3) if orientation < 5 else (40, 24, 3))
    np.testing.assert_array_equal(read_picture(path), by_pillow(path))


def test_colours_for_printing_are_left_to_pillow(by_pillow):
    file = jpeg(32, 16, "CMYK")
    assert decoded_straight(Image.open(file), file) is None
    np.testing.assert_array_equal(read_picture(file, "x.jpg"), by_pillow(file))


def test_a_file_with_much_behind_its_picture_is_not_held_in_memory(by_pillow, monkeypatch, tmp_path):
    monkeypatch.setattr(jpeg_module, "MOST_NOTES", 1000)
    path = tmp_path / "x.jpg"
    path.write_bytes(jpeg(16, 8).getvalue() + bytes(5000))
    assert decoded_straight(Image.open(path), path) is None
    np.testing.assert_array_equal(read_picture(path), by_pillow(path))


@pytest.mark.slow
def test_a_damaged_one_reads_or_fails_as_before(by_pillow):
    whole = jpeg(160, 120, smooth=True, quality=90).getvalue()

    def told(read, file):
        try:
            return read(file).tobytes()
        except InputError as error:
            return str(error)

    for _ in range(100):
        content = bytearray(whole)
        for place in random.integers(2, len(content), size=int(random.integers(1, 6))):
            content[place] = random.integers(256)
        cut = bytes(content[: int(random.integers(20, len(content) + 1))])
        for some in (bytes(content), cut):
            straight = told(lambda file: read_picture(file, "x.jpg"), io.BytesIO(some))
            assert straight == told(by_pillow, io.BytesIO(some))
