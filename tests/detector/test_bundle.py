import json
import pickle
import zipfile

import pytest
import torch

from avocet.core.errors import InputError
from avocet.detector.model.bundle import read_bundle, write_bundle
from avocet.detector.model.card import CARD, WEIGHTS, ModelCard
from avocet.detector.model.network import Network
from avocet.detector.model.sizes import size_named

CARD_VALUES = ModelCard(
    size="stint", classes=["roll", "ring"], side=96, anchors=[[(8.0, 8.0)] * 3] * 3, reach=2.0
)


@pytest.fixture
def bundle(tmp_path):
    path = tmp_path / "model.zip"
    write_bundle(path, CARD_VALUES, Network(size_named("stint"), 2).state_dict())
    return path


def changed(bundle, card=None, weights=None, drop=None):
    """The bundle with parts replaced."""
    with zipfile.ZipFile(bundle) as archive:
        parts = {name: archive.read(name) for name in archive.namelist()}
    parts |= {CARD: card} if card is not None else {}
    parts |= {WEIGHTS: weights} if weights is not None else {}
    parts.pop(drop, None)
    path = bundle.with_name("changed.zip")
    with zipfile.ZipFile(path, "w") as archive:
        for name, content in parts.items():
            archive.writestr(name, content)
    return path


def test_a_bundle_of_an_earlier_version_keeps_the_grey_that_it_was_trained_with(bundle):
    values = CARD_VALUES.model_dump(mode="json")
    del values["padding"]
    card, _ = read_bundle(changed(bundle, card=json.dumps(values)))
    assert card.padding == (114, 114, 114)
    with pytest.raises(InputError, match=r"padding \(300, 0, 0\), which is no colour"):
        read_bundle(changed(bundle, card=json.dumps(values | {"padding": [300, 0, 0]})))


def test_what_is_written_comes_back(bundle):
    card, network = read_bundle(bundle)
    assert card == CARD_VALUES
    assert [tuple(level.shape) for level in network(torch.zeros(1, 3, 64, 96))] == [
        (1, 3, 7, 8, 12),
        (1, 3, 7, 4, 6),
        (1, 3, 7, 2, 3),
    ]


def test_the_same_model_is_the_same_bytes(bundle, tmp_path):
    _, network = read_bundle(bundle)
    write_bundle(tmp_path / "again.zip", CARD_VALUES, network.state_dict())
    assert (tmp_path / "again.zip").read_bytes() == bundle.read_bytes()


@pytest.mark.slow
def test_folded_network_answers_the_same(bundle):
    _, network = read_bundle(bundle)
    picture = torch.rand(1, 3, 64, 64, generator=torch.Generator().manual_seed(0))
    before = network(picture)
    network.fold()
    for a, b in zip(before, network(picture), strict=True):
        torch.testing.assert_close(a, b, atol=1e-4, rtol=1e-3)


def card_with(**values):
    return json.dumps(CARD_VALUES.model_dump() | values).encode()


@pytest.mark.parametrize(
    ("parts", "expected"),
    [
        ({"drop": CARD}, r"holds no model\.json"),
        ({"drop": WEIGHTS}, r"holds no weights\.safetensors"),
        ({"card": b"{"}, r"model\.json is not JSON"),
        ({"card": card_with(format_version=2)}, r"bundle format 2; this Avocet reads up to 1"),
        ({"card": card_with(classes=[])}, "not valid at classes"),
        ({"card": card_with(side=100)}, "not valid at side"),
        ({"card": card_with(size="heron")}, "no size 'heron'"),
        ({"card": card_with(strides=[4, 8, 16])}, "strides"),
        ({"card": card_with(anchors=[[[0, 1]] * 3] * 3)}, "not a positive size"),
        ({"card": card_with(classes=["a", "b", "c"])}, "does not fit"),
        ({"weights": b"garbage"}, "does not fit"),
        ({"weights": pickle.dumps({"a": 1})}, "does not fit"),
    ],
)
def test_unusable_bundles_are_named(bundle, parts, expected):
    with pytest.raises(InputError, match=expected):
        read_bundle(changed(bundle, **parts))


def test_other_files_are_no_bundles(tmp_path):
    path = tmp_path / "model.zip"
    with pytest.raises(InputError, match="no such model bundle"):
        read_bundle(path)
    path.write_bytes(b"PK\x03\x04 and then nothing")
    with pytest.raises(InputError, match=r"model\.zip is not a model bundle"):
        read_bundle(path)


def test_a_name_in_another_encoding_than_it_claims(bundle, tmp_path):
    path = tmp_path / "model.zip"
    content = bundle.read_bytes()
    # The bit that says UTF-8, and a byte that is none, in the list at the end.
    at = content.rindex(b"PK\x01\x02")
    changed = bytearray(content)
    changed[at + 9] |= 0x08
    changed[at + 46] = 0x90
    path.write_bytes(changed)
    with pytest.raises(InputError, match=r"model\.zip is not a model bundle"):
        read_bundle(path)
