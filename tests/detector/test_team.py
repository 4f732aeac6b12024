"""Processes that train together take the steps of one: shares, normalisation, losses, a stop, a fault, another team."""

import json
import multiprocessing
import os
import socket
from pathlib import Path

import numpy as np
import pytest
import torch
from torch import nn

from avocet.core.errors import InputError
from avocet.detector.model.network import Network
from avocet.detector.model.sizes import size_named
from avocet.detector.pictures.augmentation import Augmentation
from avocet.detector.pictures.batches import TrainingPictures
from avocet.detector.training.settings import Settings
from avocet.detector.training.team import ALONE, Team, TeamBroken, TeamNorm, set_norms, team_at
from tests.detector.test_training import picture, training, weights

SETTINGS = Settings(
    side=96, epochs=3, batch=4, seed=3, number_format="float32", augmentation=Augmentation(flips="sideways")
)
PATIENCE = 20


def free_port():
    with socket.socket() as held:
        held.bind(("127.0.0.1", 0))
        return held.getsockname()[1]


def together(does, folder, size=2, ends=None):
    """What each of some processes made of a function, in the order of their ranks; None of one that died."""
    folder.mkdir(exist_ok=True)
    spawning, port = multiprocessing.get_context("spawn"), free_port()
    members = [
        spawning.Process(target=_member, args=(does, rank, size, port, folder)) for rank in range(size)
    ]
    for each in members:
        each.start()
    for rank, each in enumerate(members):
        each.join(120)
        assert each.exitcode == (ends or {}).get(rank, 0)
    made = [folder / f"{rank}.json" for rank in range(size)]
    return [json.loads(each.read_text()) if each.exists() else None for each in made]


def _member(does, rank, size, port, folder):
    torch.set_num_threads(1)
    with team_at("127.0.0.1", port, rank, size, torch.device("cpu"), PATIENCE) as team:
        made = does(team, Path(folder))
    (Path(folder) / f"{rank}.json").write_text(json.dumps(made))


def trained(team, folder, settings=SETTINGS, **given):
    """The losses of every step, and of every epoch mAP and loss on the validation pictures."""
    run = training(folder if team.rank == 0 else folder / "elsewhere", settings, pictures=10)
    run.team = team
    losses, reports = [], []
    ended = run.run(reports.append, lambda step, loss: losses.append(loss), **given)
    told = [(each.loss, each.validation.loss, each.validation.map) for each in reports]
    return {"ended": ended, "losses": losses, "epochs": told, "epoch": run.progress.epoch}


def test_shares_make_up_the_batch():
    pictures = [picture(seed) for seed in range(7)]
    made = TrainingPictures(pictures, 96, 5, Augmentation(collage=0.5, copy_in=0.5), seed=2)
    whole = list(made.epoch(1))
    parts = [list(made.epoch(1, share=Team(rank, 2).share(5))) for rank in range(2)]
    for batch, first, second in zip(whole, *parts, strict=True):
        assert (batch.pixels == np.concatenate([first.pixels, second.pixels])).all()
        assert (batch.light == np.concatenate([first.light, second.light])).all()
        assert batch.pictures == first.pictures + second.pictures
        assert (batch.truths.boxes == np.concatenate([first.truths.boxes, second.truths.boxes])).all()
    made.close()


def normalised(team, folder):
    """Outputs, gradients and statistics of a normalisation of seven pictures, each member with its share."""
    generator = torch.Generator().manual_seed(4)
    values = 3 + 5 * torch.rand(7, 4, 6, 5, generator=generator)
    wanted = torch.rand(7, 4, 6, 5, generator=generator)
    share = team.share(7)
    net = nn.Sequential(nn.BatchNorm2d(4)).train()
    nn.init.uniform_(net[0].weight, 0.5, 2, generator=torch.Generator().manual_seed(1))
    weight = net[0].weight
    set_norms(net, nn.BatchNorm2d if team.alone else TeamNorm)
    assert net[0].weight is weight
    own = values[share.start : share.stop].clone().requires_grad_()
    out = net(own)
    (out * wanted[share.start : share.stop]).sum().backward()
    parts = team.gathered((out.tolist(), own.grad.tolist()))
    slopes = [team.total(each.grad).tolist() for each in (net[0].weight, net[0].bias)]
    statistics = [net[0].running_mean.tolist(), net[0].running_var.tolist()]
    return [[each for part in parts for each in part[which]] for which in (0, 1)] + slopes + statistics


@pytest.mark.long
@pytest.mark.slow
def test_normalisation_is_over_the_whole_batch(tmp_path):
    alone = normalised(ALONE, tmp_path)
    for told in together(normalised, tmp_path / "three", size=3):
        for one, other in zip(alone, told, strict=True):
            assert np.array(other) == pytest.approx(np.array(one), abs=1e-4)


def test_normalisations_are_exchanged_and_put_back():
    network = Network(size_named("stint"), 2)
    before = {name: value.data_ptr() for name, value in network.state_dict().items()}
    set_norms(network, TeamNorm)
    assert all(type(each) is not nn.BatchNorm2d for each in network.modules())
    assert before == {name: value.data_ptr() for name, value in network.state_dict().items()}
    set_norms(network, nn.BatchNorm2d)
    assert not any(isinstance(each, TeamNorm) for each in network.modules())


@pytest.mark.long
@pytest.mark.slow
def test_the_curve_is_that_of_one(tmp_path):
    torch.set_num_threads(1)
    alone = trained(ALONE, tmp_path / "alone")
    first, second = together(trained, tmp_path / "two")
    assert first["losses"] == second["losses"], "all see the same"
    assert (first["ended"], second["epochs"]) == (True, []), "one tells"
    # Sums in another order differ in the seventh digit; each step makes more of it.
    assert first["losses"][:5] == pytest.approx(alone["losses"][:5], rel=1e-4)
    assert first["losses"] == pytest.approx(alone["losses"], rel=0.02)
    assert np.array(first["epochs"])[:, :2] == pytest.approx(np.array(alone["epochs"])[:, :2], rel=0.02)


def stopped_and_resumed(team, folder):
    steps = []
    settings = Settings(**{**vars(SETTINGS), "epochs": 2})
    place = folder if team.rank == 0 else folder / "elsewhere"
    run = training(place, settings, pictures=10)
    run.team = team
    # Only the first is asked to stop, in the middle of the second epoch.
    wants = lambda: team.rank == 0 and len(steps) == 4  # noqa: E731
    ended = run.run(lambda report: None, lambda step, loss: steps.append(step), wants)
    again = training(place, settings, pictures=10)
    again.team = team
    resumed = again.resume()
    return [ended, len(steps), resumed, again.run(lambda report: None), again.progress.epoch]


@pytest.mark.long
@pytest.mark.slow
def test_all_stop_where_one_is_asked_to_and_go_on_from_what_it_kept(tmp_path):
    # The other one has nothing to resume from, and needs nothing.
    assert together(stopped_and_resumed, tmp_path / "two") == [
        [False, 4, True, True, 2],
        [False, 4, False, True, 2],
    ]
    settings = Settings(**{**vars(SETTINGS), "epochs": 2})
    torch.set_num_threads(1)
    training(tmp_path / "alone", settings, pictures=10).run(lambda report: None)
    alone, two = weights(tmp_path / "alone"), weights(tmp_path / "two")
    assert alone.keys() == two.keys()


def one_dies(team, folder):
    """The second is gone in the second epoch; the first goes on alone."""
    place = folder if team.rank == 0 else folder / "elsewhere"
    run = training(place, SETTINGS, pictures=10)
    run.team = team
    seen, reports = [], []

    def on_step(step, loss):
        seen.append(step)
        if team.rank == 1 and step == 5:
            os._exit(9)

    try:
        run.run(reports.append, on_step)
    except TeamBroken as error:
        kept = run.progress.epoch
        run.team = ALONE
        return [
            kept,
            bool(str(error)),
            run.run(reports.append, on_step),
            [each.epoch for each in reports],
            seen,
        ]
    raise AssertionError("nobody was missed")


@pytest.mark.long
@pytest.mark.slow
def test_where_one_dies_the_rest_goes_on_from_the_last_epoch(tmp_path):
    told, gone = together(one_dies, tmp_path / "two", ends={1: 9})
    assert gone is None
    kept, said, ended, epochs, steps = told
    assert (kept, said, ended, epochs) == (1, True, True, [1, 2, 3])
    assert steps[-6:] == [4, 5, 6, 7, 8, 9] and set(steps) == set(range(1, 10))


def runs_away(team, folder):
    run = training(folder / str(team.rank), SETTINGS, pictures=10)
    next(run.network.parameters()).data.fill_(float("nan"))
    run.team = team
    try:
        run.run(lambda report: None)
    except InputError as error:
        return str(error)
    raise AssertionError("it did not")


@pytest.mark.long
@pytest.mark.slow
def test_a_loss_that_runs_away_ends_it_for_all_with_the_names_of_the_whole_batch(tmp_path):
    first, second = together(runs_away, tmp_path / "two")
    assert first == second
    assert "is no longer a finite number" in first and first.count(".png") >= 3


@pytest.mark.slow
def test_whoever_does_not_come_is_missed(monkeypatch):
    monkeypatch.setattr("tests.detector.test_team.PATIENCE", 1)
    with (
        pytest.raises(TeamBroken),
        team_at("127.0.0.1", free_port(), 0, 2, torch.device("cpu"), 1),
    ):
        raise AssertionError("nobody is there")
