import io
import struct
import zlib

import numpy as np
import pytest
from PIL import Image, ImageOps, TiffImagePlugin

from avocet.core.errors import InputError
from avocet.media.pictures import (
    encode_jpeg,
    has_more_pages,
    picture_size,
    read_picture,
    small_picture,
)
from tests.deep import deep_png, deep_tiff, twelve_bits_scaled


def saved(tmp_path, picture, name, **more):
    path = tmp_path / name
    picture.save(path, **more)
    return path


@pytest.mark.parametrize("orientation", range(1, 9))
def test_a_tiff_is_turned_like_any_other_picture(tmp_path, orientation):
    pixels = np.random.default_rng(0).integers(0, 255, (20, 30, 3), dtype=np.uint8)
    exif = Image.Exif()
    exif[0x0112] = orientation
    tiff, png = (
        saved(tmp_path, Image.fromarray(pixels), name, exif=exif) for name in ("turned.tif", "turned.png")
    )
    np.testing.assert_array_equal(read_picture(tiff), read_picture(png))
    assert picture_size(tiff) == picture_size(png) == read_picture(tiff).shape[1::-1]


def test_further_pages_and_frames_are_noticed(tmp_path):
    page = Image.new("RGB", (20, 12))
    more = {"save_all": True, "append_images": [Image.new("RGB", (20, 12), "red")]}
    for name in ("a.tif", "a.png", "a.webp"):
        assert has_more_pages(saved(tmp_path, page, name, **more))
        assert not has_more_pages(saved(tmp_path, page, name))


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
        ("huge.png", png_header(30_000, 30_000), r"huge\.png is 30000×30000 pixels; at most 105 million"),
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
    assert small_picture(path, 320).shape == (180, 320, 3)
    assert small_picture(path, 2000).shape == (540, 960, 3)


@pytest.mark.slow
@pytest.mark.parametrize("suffix", [".jpg", ".png"])
def test_a_small_picture_is_the_large_one_seen_from_afar(tmp_path, suffix):
    random = np.random.default_rng(0)
    scene = Image.fromarray(random.integers(0, 255, (9, 16, 3), dtype=np.uint8)).resize((1600, 900))
    path = saved(tmp_path, scene, f"a{suffix}")
    small = small_picture(path, 320).astype(int)
    expected = read_picture(path).reshape(180, 5, 320, 5, 3).mean(axis=(1, 3))
    assert np.abs(small - expected).max() < 8
    with path.open("rb+") as file:
        file.truncate(path.stat().st_size * 3 // 4)
    with pytest.raises(InputError, match="is damaged"):
        small_picture(path, 320)


def marked(width=40, height=24):
    """A picture of which every corner has a colour of its own."""
    picture = Image.new("RGB", (width, height))
    for place, colour in (((0, 0), "red"), ((width // 2, 0), "lime"), ((0, height // 2), "blue")):
        picture.paste(colour, (*place, place[0] + width // 2, place[1] + height // 2))
    return picture


@pytest.mark.parametrize("suffix", [".jpg", ".png", ".webp", ".tif"])
@pytest.mark.parametrize("orientation", range(1, 9))
def test_every_orientation_in_every_format(tmp_path, suffix, orientation):
    exif = Image.Exif()
    exif[0x0112] = orientation
    options = {"quality": 100} if suffix in (".jpg", ".webp") else {}
    path = saved(tmp_path, marked(), f"a{suffix}", exif=exif, **options)
    with Image.open(path) as opened:
        expected = np.asarray(ImageOps.exif_transpose(opened).convert("RGB"))
    pixels = read_picture(path)
    assert np.array_equal(pixels, expected)
    assert picture_size(path) == pixels.shape[1::-1]
    assert small_picture(path, 12).shape[:2] == ((12, 7) if orientation > 4 else (7, 12))


def test_a_png_may_note_its_orientation_behind_its_pixels(tmp_path):
    plain = io.BytesIO()
    marked().save(plain, "PNG")
    exif = Image.Exif()
    exif[0x0112] = 6
    note = exif.tobytes()[6:]
    chunk = struct.pack(">I", len(note)) + b"eXIf" + note + struct.pack(">I", zlib.crc32(b"eXIf" + note))
    content, end = plain.getvalue()[:-12], plain.getvalue()[-12:]
    path = tmp_path / "a.png"
    path.write_bytes(content + chunk + end)
    assert picture_size(path) == (24, 40) == read_picture(path).shape[1::-1]


def deep_pictures(tmp_path):
    """Files of more than 8 bits with what a ramp in them is to become, in 8 bits."""
    ramp = np.linspace(0, 1, 400).reshape(20, 20)
    hot = (ramp * 4095).astype(np.uint16)
    hot[0, 0] = 65535
    cases = {
        "ten.png": deep_png((ramp * 1023).astype(np.uint16), 10),
        "fourteen.png": deep_png((ramp * 16383).astype(np.uint16), 14),
        "dark.png": deep_png((ramp * 700).astype(np.uint16), 12),
        "eight-in-sixteen.png": deep_png((ramp * 255).astype(np.uint16)),
        "twelve.png": deep_png((ramp * 4095).astype(np.uint16)),
    }
    large = np.kron(hot, np.ones((10, 10), np.uint16))
    large[1:10, :10] = large[:10, 1:10] = 0
    cases["hot.png"] = deep_png(large)
    for name, content in cases.items():
        (tmp_path / name).write_bytes(content)
    for name, scale in (("float.tif", 255.0), ("share.tif", 1.0)):
        Image.fromarray((ramp * scale).astype(np.float32)).save(tmp_path / name)
    tags = TiffImagePlugin.ImageFileDirectory_v2()
    tags[281] = 1023
    Image.fromarray((ramp * 1023).astype(np.uint16)).save(tmp_path / "ten.tif", tiffinfo=tags)
    named = [*cases, "float.tif", "share.tif", "ten.tif"]
    return {name: ramp * (700 / 4095 if name == "dark.png" else 1) * 255 for name in named}


def test_white_is_what_the_file_says_or_nearly_all_values_fit_into(tmp_path):
    from avocet.detector.engines import find_boxes

    for name, expected in deep_pictures(tmp_path).items():
        pixels = read_picture(tmp_path / name)
        shown = pixels[5::10, 5::10] if name == "hot.png" else pixels
        assert np.abs(shown[1:, 1:, 0] - expected[1:, 1:]).max() <= 1.1, name
        np.testing.assert_array_equal(find_boxes.read(tmp_path / name), pixels)


@pytest.mark.parametrize("size", [(30, 40), (1100, 2000)])
def test_colours_of_more_than_eight_bits_keep_them(tmp_path, size):
    """Twelve bits in sixteen, in every layout, and also where they are read strip by strip."""
    from avocet.detector.engines import find_boxes

    random = np.random.default_rng(4)
    colours = random.integers(0, 4096, (*size, 3)).astype(np.uint16)
    clear = np.dstack([colours, np.full(size, 4095, np.uint16)])
    grey = np.dstack([colours[..., 0], np.where(colours[..., 1] < 2000, 0, 65535)]).astype(np.uint16)
    expected = (colours / 4095 * 255).round()
    half = np.where(grey[..., 1:] > 0, expected[..., :1], 255).repeat(3, axis=2)
    files = {
        "plain.png": (deep_png(colours), expected),
        "clear.png": (deep_png(clear), expected),
        "grey.png": (deep_png(grey), half),
        "said.png": (deep_png(colours, 12), expected),
        "scaled.png": (deep_png(twelve_bits_scaled(colours), 12), expected),
        "dark.png": (deep_png(twelve_bits_scaled(colours // 20), 12), (colours // 20 / 4095 * 255).round()),
        "said.tif": (deep_tiff(colours // 8, most=4095), (colours // 8 / 4095 * 255).round()),
        "clear.tif": (deep_tiff(clear, packed=True), expected),
    } | {
        f"{'packed' if packed else 'plain'}-{'little' if order == '<' else 'big'}.tif": (
            deep_tiff(colours, order, packed), expected,
        )
        for packed in (True, False)
        for order in "<>"
    }  # fmt: skip
    for name, (content, wanted) in files.items():
        path = tmp_path / name
        path.write_bytes(content)
        pixels = read_picture(path)
        assert np.abs(pixels.astype(int) - wanted).max() <= 1, name
        np.testing.assert_array_equal(read_picture(io.BytesIO(content), name), pixels, err_msg=name)
        np.testing.assert_array_equal(find_boxes.read(path), pixels, err_msg=name)
    chosen = read_picture(tmp_path / "plain.png", white=65535.0)
    assert np.abs(chosen - colours / 257).max() <= 1, "a white that a person chose goes before"


def test_a_damaged_file_of_deep_colours_is_named(tmp_path):
    path = tmp_path / "torn.png"
    path.write_bytes(deep_png(np.random.default_rng(1).integers(0, 4096, (30, 40, 3)))[:2000])
    with pytest.raises(InputError, match=r"torn\.png"):
        read_picture(path)


def test_the_exported_script_reads_pictures_as_the_product_does(tmp_path):
    from avocet.detector.engines import find_boxes

    random = np.random.default_rng(0)
    rgba = random.integers(0, 256, (20, 30, 4), dtype=np.uint8)
    for name, picture in {
        "clear.png": Image.fromarray(rgba, "RGBA"),
        "grey.png": Image.fromarray(rgba[..., 0]),
        "plain.jpg": Image.fromarray(rgba[..., :3]),
        "palette.png": Image.fromarray(rgba[..., :3]).quantize(16),
    }.items():
        path = saved(tmp_path, picture, name)
        np.testing.assert_array_equal(find_boxes.read(path), read_picture(path), err_msg=name)


@pytest.mark.parametrize(("highest", "shown"), [(4095, 255), (65535, 255), (2047, 127), (32767, 127)])
def test_twelve_bits_in_sixteen_are_not_black(tmp_path, highest, shown):
    values = np.zeros((20, 20), np.uint16)
    values[5:] = highest
    pixels = read_picture(saved(tmp_path, Image.fromarray(values), "a.png"))
    assert pixels[0, 0].tolist() == [0] * 3 and pixels[10, 10].tolist() == [shown] * 3
