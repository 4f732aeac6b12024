import threading
import time

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from avocet.core.errors import InputError
from avocet.media import cropping
from avocet.media.cropping import crop_picture
from tests.media.test_pictures import marked, saved


@given(st.data())
def test_crops_are_those_of_the_whole_picture(tmp_path_factory, data):
    """Pixel for pixel where nothing is scaled; black beyond the edge."""
    path = tmp_path_factory.getbasetemp() / "crop.png"
    pixels = np.random.default_rng(0).integers(1, 255, (30, 50, 3), dtype=np.uint8)
    Image.fromarray(pixels).save(path)
    side = data.draw(st.integers(1, 40))
    x, y = data.draw(st.integers(1 - side, 49)), data.draw(st.integers(1 - side, 29))
    framed = np.zeros((30 + 2 * side, 50 + 2 * side, 3), np.uint8)
    framed[side:-side, side:-side] = pixels
    expected = framed[y + side : y + 2 * side, x + side : x + 2 * side]
    assert np.array_equal(crop_picture(path, (x, y, x + side, y + side), side), expected)


def test_a_crop_of_nothing_is_refused(tmp_path):
    path = saved(tmp_path, marked(), "a.png")
    for region in ((-9, 0, 0, 9), (40, 0, 50, 10), (0, 24, 9, 33), (5, 5, 5, 5)):
        with pytest.raises(InputError, match=r"a\.png: .* holds nothing of the picture"):
            crop_picture(path, region, 16)


def test_a_crop_of_a_large_jpeg_is_decoded_small_and_right(tmp_path):
    path = saved(tmp_path, marked(1600, 960), "a.jpg", quality=95)
    whole = crop_picture(path, (0, -320, 1600, 1280), 160)
    assert whole.shape == (160, 160, 3)
    for (row, column), colour in {(40, 20): 0, (40, 120): 1, (120, 20): 2}.items():
        assert whole[row, column].argmax() == colour and whole[row, column].max() > 200
    assert whole[:30].max() < 12 and whole[131:].max() < 12


@pytest.fixture
def readings(monkeypatch):
    """The files that were read, one after the other."""
    made, read = [], cropping.read_picture

    def told(path, *more):
        made.append(path.name)
        time.sleep(0.05)
        return read(path, *more)

    monkeypatch.setattr(cropping, "read_picture", told)
    monkeypatch.setattr(cropping, "_recent", cropping._Recent(cropping.MOST_KEPT))
    return made


def test_many_crops_of_a_picture_at_once_read_it_once(tmp_path, readings):
    path = saved(tmp_path, marked(), "a.png")
    crops = [threading.Thread(target=crop_picture, args=(path, (x, 0, x + 9, 9), 9)) for x in range(12)]
    for each in crops:
        each.start()
    for each in crops:
        each.join()
    crop_picture(path, (0, 0, 20, 20), 9)
    assert readings == ["a.png"]


def test_a_file_that_was_replaced_is_read_anew(tmp_path, readings):
    path = tmp_path / "a.png"
    for shade in (10, 200):
        Image.new("RGB", (30, 30), (shade,) * 3).save(tmp_path / "new.png")
        (tmp_path / "new.png").replace(path)
        assert crop_picture(path, (0, 0, 9, 9), 9).mean() == shade
    assert len(readings) == 2


def test_what_cannot_be_read_is_said_each_time(tmp_path, readings):
    path = saved(tmp_path, Image.effect_noise((200, 200), 50), "a.png")
    path.write_bytes(path.read_bytes()[:3000])
    for _ in range(2):
        with pytest.raises(InputError, match=r"a\.png is damaged"):
            crop_picture(path, (0, 0, 9, 9), 9)
    assert len(readings) == 2 and not cropping._recent._reading


def test_no_more_is_kept_than_allowed():
    recent = cropping._Recent(1000)
    for size in (300, 300, 300, 600, 300):
        recent._keep((size, time.monotonic_ns()), np.zeros(size, np.uint8))
        assert recent._held == sum(each.nbytes for each in recent._kept.values()) <= 1000
    assert [each.nbytes for each in recent._kept.values()] == [300, 300, 300]
