import struct
import zlib

import numpy as np
import pytest
from PIL import Image

from avocet.core.errors import InputError
from avocet.media.pictures import encode_jpeg, picture_size, read_picture, thumbnail_jpeg


def saved(tmp_path, picture, name, **more):
    path = tmp_path / name
    picture.save(path, **more)
    return path


@pytest.mark.parametrize("name", ["a.png", "a.bmp", "a.tiff", "a.webp", "a.jpg"])
def test_colours_come_out_right_in_every_format(tmp_path, name):
    path = saved(tmp_path, Image.new("RGB", (20, 12), (200, 120, 40)), name)
    pixels = read_picture(path)
    assert pixels.shape == (12, 20, 3) and pixels.dtype == np.uint8
    np.testing.assert_allclose(pixels.mean(axis=(0, 1)), (200, 120, 40), atol=6)


@pytest.mark.parametrize(
    ("picture", "expected"),
    [
        (Image.new("L", (9, 9), 100), (100, 100, 100)),
        (Image.new("RGBA", (9, 9), (255, 0, 0, 0)), (255, 255, 255)),
        (Image.new("RGBA", (9, 9), (255, 0, 0, 255)), (255, 0, 0)),
        (Image.new("LA", (9, 9), (40, 255)), (40, 40, 40)),
        (Image.fromarray(np.full((9, 9), 65535 // 2, np.uint16)), (127, 127, 127)),
        (Image.new("P", (9, 9), 0), (0, 0, 0)),
        (Image.new("1", (9, 9), 1), (255, 255, 255)),
    ],
)
def test_every_kind_of_picture_becomes_rgb(tmp_path, picture, expected):
    pixels = read_picture(saved(tmp_path, picture, "a.png"))
    np.testing.assert_allclose(pixels.mean(axis=(0, 1)), expected, atol=1)


def test_cmyk_becomes_rgb(tmp_path):
    path = saved(tmp_path, Image.new("CMYK", (16, 16), (0, 255, 255, 0)), "a.jpg")
    red, green, _blue = read_picture(path).mean(axis=(0, 1))
    assert red > 200 and green < 60


def test_turned_picture_comes_upright(tmp_path):
    picture = Image.new("RGB", (30, 10))
    picture.paste((255, 0, 0), (0, 0, 10, 10))
    exif = Image.Exif()
    exif[0x0112] = 6  # to be turned clockwise: the left end becomes the top
    path = saved(tmp_path, picture, "a.jpg", exif=exif, quality=95)
    pixels = read_picture(path)
    assert pixels.shape == (30, 10, 3) and picture_size(path) == (10, 30)
    assert pixels[4, 5, 0] > 200 and pixels[25, 5, 0] < 60


def png_header(width, height):
    def chunk(kind, content):
        return (
            struct.pack(">I", len(content)) + kind + content + struct.pack(">I", zlib.crc32(kind + content))
        )

    return (
        b"\x89PNG\r\n\x1a\n"
        + chunk(b"IHDR", struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0))
        + chunk(b"IDAT", b"")
    )


@pytest.mark.parametrize(
    ("name", "content", "expected"),
    [
        ("none.jpg", b"", r"none\.jpg is empty \(0 bytes\)"),
        ("text.png", b"hello", r"text\.png is not a JPEG, PNG"),
        ("half.jpg", "half", r"half\.jpg is damaged"),
        ("huge.png", png_header(30_000, 30_000), r"huge\.png is 30000×30000 pixels; at most 150 million"),
        ("dot.png", png_header(1, 1), r"dot\.png is 1×1 pixels"),
        ("fake.png", b"%!PS-Adobe-3.0 EPSF-3.0\n", r"fake\.png is not a JPEG"),
    ],
)
def test_unusable_files_are_named(tmp_path, name, content, expected):
    if content == "half":
        content = encode_jpeg(np.random.default_rng(0).integers(0, 255, (200, 200, 3), dtype=np.uint8))[:9000]
    path = tmp_path / name
    path.write_bytes(content)
    with pytest.raises(InputError, match=expected):
        read_picture(path)


def test_missing_file_is_named(tmp_path):
    with pytest.raises(InputError, match=r"gone\.png: there is no such file"):
        read_picture(tmp_path / "gone.png")


def test_thumbnail_fits(tmp_path):
    path = saved(tmp_path, Image.new("RGB", (960, 540), (10, 200, 10)), "a.png")
    small = tmp_path / "small.jpg"
    small.write_bytes(thumbnail_jpeg(read_picture(path), 320))
    assert picture_size(small) == (320, 180)
