"""Confusion and the choice of a minimum score, against slow versions and by hand."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from avocet.core.detections import PictureDetections, PictureTruth
from avocet.core.score.confusion import confusion
from avocet.core.score.operating import GIVEN_UP, choose_score, operating_curve, sparing_f1_score
from tests.conftest import examples
from tests.core.score.test_precision import pictures
from tests.core.slow import iou_of_two


def confusion_slowly(scene, classes, threshold):
    counts = [[0] * (classes + 1) for _ in range(classes + 1)]
    for truth, found in scene:
        free = [not (a or b) for a, b in zip(truth.ignored, truth.crowd, strict=True)]
        skipped = [not each for each in free]
        for i in sorted(range(len(found.boxes)), key=lambda i: -found.scores[i]):
            near = {}
            for j in range(len(truth.boxes)):
                overlap = iou_of_two(found.boxes[i], truth.boxes[j], truth.crowd[j])
                if overlap >= threshold:
                    near[j] = overlap
            label = found.classes[i]
            own = [j for j in near if free[j] and truth.classes[j] == label]
            others = [j for j in near if free[j]]
            if own or others:
                best = max(own or others, key=lambda j: (near[j], -j))
                free[best] = False
                counts[truth.classes[best]][label] += 1
            elif not any(skipped[j] for j in near):
                counts[classes][label] += 1
        for j, left in enumerate(free):
            if left:
                counts[truth.classes[j]][classes] += 1
    return counts


@examples(200)
@given(st.lists(pictures(classes=3), min_size=1, max_size=3), st.sampled_from([0.3, 0.5, 0.75]))
def test_confusion_equals_the_slow_version(scene, threshold):
    made = confusion([each[0] for each in scene], [each[1] for each in scene], 3, threshold)
    assert made.counts.tolist() == confusion_slowly(scene, 3, threshold)
    for picture, truth, detection, row, column in zip(
        made.picture, made.truth, made.detection, made.row, made.column, strict=True
    ):
        real, found = scene[picture]
        assert row == (real.classes[truth] if truth >= 0 else 3)
        assert column == (found.classes[detection] if detection >= 0 else 3)


def test_confusion_by_hand():
    """A roll found, a loaf taken for a roll, a ring not found, a croissant where nothing is."""
    truth = PictureTruth([[0, 0, 10, 10], [20, 0, 40, 10], [50, 0, 60, 10]], [0, 1, 2])
    found = PictureDetections([[0, 0, 10, 9], [20, 0, 40, 9], [80, 80, 90, 90]], [0.9, 0.8, 0.7], [0, 0, 3])
    made = confusion([truth], [found], 4)
    expected = np.zeros((5, 5), int)
    expected[0, 0] = expected[1, 0] = expected[2, 4] = expected[4, 3] = 1
    assert made.counts.tolist() == expected.tolist()
    with pytest.raises(ValueError, match="1 pictures of truths, but 2"):
        confusion([truth], [found, found], 4)


scored = st.lists(st.tuples(st.sampled_from([0.1, 0.2, 0.5, 0.5, 0.9]), st.booleans()), max_size=15)


@examples(200)
@given(scored, st.integers(0, 4), st.floats(0.05, 1), st.floats(0.1, 5), st.floats(0.1, 5))
def test_choices_equal_trying_every_score(found, missed, amount, miss, alarm):
    scores, hits = [each[0] for each in found], [each[1] for each in found]
    truths = sum(hits) + missed
    curve = operating_curve(scores, hits, truths)
    tried = {}
    for limit in sorted(set(scores)):
        right = sum(h for s, h in found if s >= limit)
        wrong = sum(not h for s, h in found if s >= limit)
        tried[limit] = (right, wrong)
    precise = [s for s, (r, w) in tried.items() if r / (r + w) >= amount - 1e-12]
    assert choose_score(curve, "precision", amount) == (min(precise) if precise else None)
    if truths:
        full = [s for s, (r, _) in tried.items() if r / truths >= amount - 1e-12]
        assert choose_score(curve, "recall", amount) == (max(full) if full else None)
    if tried:
        best = choose_score(curve, "f1")
        f1 = {s: 2 * r / (r + w + truths) if r + w + truths else 0 for s, (r, w) in tried.items()}
        assert f1[best] == max(f1.values())
    price = {s: miss * (truths - r) + alarm * w for s, (r, w) in tried.items()}
    chosen = choose_score(curve, "price", miss_price=miss, alarm_price=alarm)
    if chosen is None:
        assert not price or min(price.values()) > miss * truths
    else:
        assert price[chosen] == pytest.approx(min(price.values())) and price[chosen] <= miss * truths


@examples(60)
@given(st.integers(0, 10_000), st.integers(3, 60), st.sampled_from(["precision", "recall", "f1"]))
def test_a_wish_holds_with_the_number_that_is_read(seed, count, wish):
    """Chosen, printed at three digits, typed in again and measured with: scores between two numbers and on them."""
    random = np.random.default_rng(seed)
    scores = np.where(
        random.random(count) < 0.5, random.integers(0, 1000, count) / 1000, random.random(count)
    )
    scores, hits = scores.astype(random.choice([np.float32, np.float64])), random.random(count) < 0.7
    curve = operating_curve(scores, hits, count)
    chosen = choose_score(curve, wish, 0.6)
    if chosen is None:
        return
    passed = scores.astype(np.float64) >= float(f"{chosen:.3f}")
    place = int(np.flatnonzero(curve.scores == chosen)[0])
    assert curve.hits[place] == (passed & hits).sum() and curve.false_alarms[place] == (passed & ~hits).sum()
    if wish == "precision":
        assert (passed & hits).sum() >= 0.6 * passed.sum()
    if wish == "recall":
        assert (passed & hits).sum() >= 0.6 * count - 1e-9


def f1_over(pictures, scores, hits, owners, truths, minimum):
    """F1 over pictures, some of them perhaps several times, one after another."""
    passing = scores >= minimum
    right = sum((passing & hits & (owners == each)).sum() for each in pictures)
    wrong = sum((passing & ~hits & (owners == each)).sum() for each in pictures)
    return 2 * right / max(1, right + wrong + sum(truths[each] for each in pictures))


@examples(25)
@given(st.integers(0, 10_000), st.integers(8, 16))
def test_a_sparing_score_is_the_highest_that_chance_allows(seed, count):
    """Against leaving out a picture at a time: the jackknife itself, which the rule's own formula stands for."""
    random = np.random.default_rng(seed)
    owners, truths = np.repeat(np.arange(count), 5), random.integers(3, 8, count)
    scores, hits = np.round(random.random(5 * count), 3), random.random(5 * count) < 0.6
    chosen = sparing_f1_score(scores, hits, owners, truths)
    every = range(count)
    by_score = {each: f1_over(every, scores, hits, owners, truths, each) for each in np.unique(scores)[::-1]}
    best = max(by_score, key=lambda each: (by_score[each], each))
    allowed = []
    for minimum, f1 in by_score.items():
        without = [
            f1_over([each for each in every if each != left], scores, hits, owners, truths, minimum)
            - f1_over([each for each in every if each != left], scores, hits, owners, truths, best)
            for left in every
        ]
        error = np.sqrt((count - 1) * np.var(without))
        allowed.append((by_score[best] - f1) / error if error > 1e-12 else float(minimum < best) * 9)
    # A leaving-out changes F1 by a little more than its slope says: what lies near the limit may go either way.
    sure = next(each for each, gap in zip(by_score, allowed, strict=True) if gap <= 0.6 * GIVEN_UP)
    perhaps = next(each for each, gap in zip(by_score, allowed, strict=True) if gap <= 1.6 * GIVEN_UP)
    passing = min(each for each in by_score if each >= chosen)
    assert sure <= passing <= perhaps
    assert f"{chosen:.3f}" == f"{chosen:.6f}"[:5], "what is read is what is kept"


def test_unknown_wish():
    with pytest.raises(ValueError, match="unknown wish 'luck'"):
        choose_score(operating_curve([], [], 0), "luck")


def made_detections(random, pictures):
    """A detector whose hits score high and whose false alarms score low, with some overlap; pictures differ."""
    truths = random.poisson(6, pictures) + 1
    ease = np.clip(random.normal(0, 0.6, pictures), -1.5, 1.5)
    right = random.binomial(truths, 1 / (1 + np.exp(-1.8 - ease)))
    wrong = random.poisson(8 * np.exp(-ease / 2))
    owners = np.concatenate([np.repeat(np.arange(pictures), right), np.repeat(np.arange(pictures), wrong)])
    hits = np.arange(len(owners)) < right.sum()
    odds = np.where(hits, 1.5 + ease[owners] / 2, -2.5 - ease[owners] / 2)
    return 1 / (1 + np.exp(-random.normal(odds, 1.5))), hits, owners, truths


def test_a_sparing_score_has_fewer_false_alarms_on_other_pictures_and_loses_little():
    random = np.random.default_rng(5)
    scores, hits, _, truths = made_detections(random, 3000)
    whole = operating_curve(scores, hits, truths.sum())
    lost, spared = [], []
    for _ in range(60):
        few = made_detections(random, 12)
        of_few = operating_curve(*few[:2], few[3].sum())
        sparing, best = sparing_f1_score(*few), choose_score(of_few, "f1")
        at = [np.searchsorted(-whole.scores, -each, side="right") - 1 for each in (sparing, best)]
        lost.append(whole.f1.max() - whole.f1[at[0]])
        spared.append(1 - whole.false_alarms[at[0]] / whole.false_alarms[at[1]])
    assert np.mean(lost) < 0.015 and np.mean(spared) > 0.1


def test_a_sparing_score_of_sure_detections_lies_between_right_and_wrong():
    scores, hits = [0.9, 0.8, 0.2] + [0.1] * 9, [True, True] + [False] * 10
    assert sparing_f1_score(scores, hits, [0, 1] + [0] * 10, [1, 1]) == 0.5


def test_no_minimum_score_without_a_hit():
    assert sparing_f1_score([], [], [], [5]) is None
    assert sparing_f1_score([0.9, 0.4], [False, False], [0, 0], [5]) is None
    assert sparing_f1_score([0.9], [True], [0], [1]) == 0.45, "whatever is found, is right"
