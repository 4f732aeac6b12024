"""Measuring a network on held-out pictures while it trains. Touches no weight."""

import math
from collections.abc import Sequence

import numpy as np
import torch

from avocet.core.detections import PictureDetections, told_score
from avocet.core.raw.candidates import MEASURING_SCORE, MINIMUM_SCORE, OVERLAP_LIMIT
from avocet.core.score.calibration import calibrate
from avocet.core.score.measurement import match_pictures
from avocet.core.score.operating import sparing_f1_score
from avocet.core.score.precision import evaluate
from avocet.detector.engines.torch_engine import as_input
from avocet.detector.model.card import ModelCard
from avocet.detector.model.network import Network
from avocet.detector.model.predictor import candidates_of
from avocet.detector.pictures.batches import HeldOutPictures
from avocet.detector.targets.anchors import level_arrays
from avocet.detector.targets.loss import LossWeights, detection_loss
from avocet.detector.training.reports import Validation, figures_by_class
from avocet.detector.training.team import ALONE, Team, joined_in_order


@torch.no_grad()
def validate(
    network: Network,
    card: ModelCard,
    held_out: HeldOutPictures,
    weights: LossWeights,
    device: torch.device,
    bfloat16: bool,
    calibrated: bool = True,
    team: Team = ALONE,
) -> tuple[Validation, list[PictureDetections]]:
    """Losses and precision on the validation pictures, and what was found on each.

    Parameters
    ----------
    network : Network
        In evaluation mode.
    card : ModelCard
        Says anchors, strides and classes.
    held_out : HeldOutPictures
    weights : LossWeights
    device : torch.device
    bfloat16 : bool
    calibrated : bool
        Whether a calibration is fitted to what was found.
    team : Team
        Each looks at its share of the batches, and learns what the others found.

    Returns
    -------
    validation : Validation
    found : list of PictureDetections
        After suppression, one a picture, with the scores that the network gave.
    """
    sums = np.zeros(3)
    pictures = held_out.pictures
    found: dict[int, PictureDetections] = {}
    anchors = level_arrays(card.anchors)
    for indices, batch in held_out.batches(team.share(held_out.count)):
        with torch.autocast(device.type, torch.bfloat16, enabled=bfloat16):
            outputs = network(as_input(batch.pixels, device))
        losses = detection_loss(outputs, batch.truths, anchors, card.strides, card.reach, weights)
        sums += [losses.box.item(), losses.objectness.item(), losses.classes.item()]
        levels = [level.float().cpu().numpy() for level in outputs]
        for row, index in enumerate(indices):
            picture = pictures[index]
            raw = [level[row] for level in levels]
            box = held_out.letterbox_of(index)
            candidates = candidates_of(raw, card, box, picture.width, picture.height, MEASURING_SCORE)
            found[index] = candidates.after_suppression(MEASURING_SCORE, OVERLAP_LIMIT)
    ordered = joined_in_order(team.gathered(found))
    losses_of_all = team.total(sums) / max(1, held_out.count)
    return _figures(card.classes, held_out, ordered, losses_of_all, calibrated), ordered


def _figures(
    names: Sequence[str],
    held_out: HeldOutPictures,
    found: list[PictureDetections],
    losses: np.ndarray,
    calibrated: bool,
) -> Validation:
    truths = [each.truth for each in held_out.pictures]
    measured = evaluate(truths, found, range(len(names)))
    matched = match_pictures(truths, found, range(len(names)), [0.5])
    counted = ~matched.skipped[0, 0]
    scores, hits = matched.scores[counted].clip(0, 1), matched.hit[0, 0][counted]
    curve = calibrate(scores, hits, MEASURING_SCORE) if calibrated else None
    if curve is not None:
        scores = curve(scores)
        found = [PictureDetections(each.boxes, curve(each.scores), each.classes) for each in found]
    counts = [int((~each.ignored).sum()) for each in held_out.pictures]
    chosen = sparing_f1_score(scores, hits, matched.picture[counted], counts)
    minimum_score = MINIMUM_SCORE if chosen is None else told_score(chosen)
    predicted = np.zeros(len(names), dtype=np.int64)
    for each in found:
        predicted += np.bincount(each.classes[each.scores >= minimum_score], minlength=len(names))
    return Validation(
        float(losses[0]),
        float(losses[1]),
        float(losses[2]),
        _or_zero(measured.mean(0.5)),
        _or_zero(measured.mean()),
        figures_by_class(measured, names, predicted.tolist()),
        minimum_score,
        None if curve is None else (curve.base, curve.rise, curve.fall),
    )


def _or_zero(value: float) -> float:
    return 0.0 if math.isnan(value) else float(value)
