import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from avocet.core.detections import PictureDetections, PictureTruth
from avocet.core.score.matching import match
from avocet.core.score.measurement import area_ranges, measure_detections
from avocet.core.score.precision import COCO_THRESHOLDS, average_precision, evaluate
from tests.conftest import examples
from tests.core.slow import average_precision_slowly, match_slowly, measure_slowly

corner, side = st.integers(0, 10), st.integers(1, 8)
box = st.tuples(corner, corner, side, side).map(lambda b: (b[0], b[1], b[0] + b[2], b[1] + b[3]))
score = st.sampled_from([0.2, 0.4, 0.4, 0.6, 0.8])


@st.composite
def pictures(draw, classes=1):
    """One picture with truths and detections on a coarse grid: ties in score and in IoU, crowds, ignored."""
    truths = draw(
        st.lists(st.tuples(box, st.integers(0, classes - 1), st.booleans(), st.booleans()), max_size=6)
    )
    found = draw(st.lists(st.tuples(box, st.integers(0, classes - 1), score), max_size=10))
    truth = PictureTruth(
        [t[0] for t in truths],
        [t[1] for t in truths],
        np.array([t[2] for t in truths], bool),
        np.array([t[3] for t in truths], bool),
    )
    return truth, PictureDetections([d[0] for d in found], [d[2] for d in found], [d[1] for d in found])


@examples(300)
@given(pictures(), st.sampled_from([0.25, 0.5, 0.75, 1.0]))
def test_matching_equals_the_rules_word_for_word(picture, threshold):
    truth, found = picture
    matches = match(found.boxes, found.scores, truth.boxes, [threshold], truth.ignored, truth.crowd)
    expected = match_slowly(found.boxes, found.scores, truth.boxes, threshold, truth.ignored, truth.crowd)
    assert matches.truth_of_detection[0].tolist() == expected
    for detection, taken in enumerate(expected):
        if taken >= 0:
            assert matches.detection_ignored[0, detection] == (truth.ignored[taken] or truth.crowd[taken])
            if not truth.crowd[taken]:
                assert matches.detection_of_truth[0, taken] == detection


@examples(200)
@given(
    st.lists(st.tuples(score, st.booleans()), max_size=30),
    st.integers(0, 5),
    st.sampled_from(["101-point", "11-point", "exact-area"]),
)
def test_average_precision_equals_the_definition(found, missed, interpolation):
    scores, hits = [f[0] for f in found], [f[1] for f in found]
    truths = sum(hits) + missed
    value = average_precision(scores, hits, truths, interpolation)
    if truths == 0:
        assert np.isnan(value)
    else:
        assert value == pytest.approx(average_precision_slowly(scores, hits, truths, interpolation), abs=1e-9)


@examples(60)
@given(st.lists(pictures(classes=2), min_size=1, max_size=4), st.sampled_from([0.5, 0.75]), st.integers(1, 5))
def test_evaluation_equals_the_slow_version(scene, threshold, most):
    truths, found = [picture[0] for picture in scene], [picture[1] for picture in scene]
    result = evaluate(truths, found, [0, 1], [threshold], most_detections=most)
    for class_id in (0, 1):
        scores, hits, total = [], [], 0
        for truth, detections in scene:
            mine = truth.classes == class_id
            flags = truth.ignored[mine] | truth.crowd[mine]
            total += int((~flags).sum())
            chosen = [
                i for i in np.argsort(-detections.scores, kind="stable") if detections.classes[i] == class_id
            ]
            chosen = chosen[:most]
            taken = match_slowly(
                detections.boxes[chosen],
                detections.scores[chosen],
                truth.boxes[mine],
                threshold,
                truth.ignored[mine],
                truth.crowd[mine],
            )
            for index, truth_index in zip(chosen, taken, strict=True):
                if truth_index < 0 or not flags[truth_index]:
                    scores.append(detections.scores[index])
                    hits.append(truth_index >= 0)
        entry = result.classes[class_id]
        assert entry.truths == total
        assert entry.hits[0] == sum(hits) and entry.false_alarms[0] == len(hits) - sum(hits)
        if total:
            expected = average_precision_slowly(scores, hits, total, "101-point")
            assert entry.average_precision[0] == pytest.approx(expected, abs=1e-9)
        else:
            assert np.isnan(entry.average_precision[0])


def test_all_three_rules_by_hand():
    # Four truths; hit, false alarm, hit, false alarm. Recall .25 .25 .5 .5, precision 1 1/2 2/3 1/2.
    scores, hits = [0.9, 0.8, 0.7, 0.6], [True, False, True, False]
    assert average_precision(scores, hits, 4, "exact-area") == pytest.approx(0.25 * 1 + 0.25 * 2 / 3)
    assert average_precision(scores, hits, 4, "11-point") == pytest.approx((3 * 1 + 3 * 2 / 3) / 11)
    assert average_precision(scores, hits, 4, "101-point") == pytest.approx((26 * 1 + 25 * 2 / 3) / 101)


def test_map_by_hand_over_all_thresholds():
    # One truth found at IoU 0.8: a hit at 0.50 to 0.80, seven of ten thresholds.
    truth = PictureTruth([[0, 0, 10, 10]], [0])
    found = PictureDetections([[0, 0, 10, 8]], [0.5], [0])
    result = evaluate([truth], [found], [0])
    assert result.mean() == pytest.approx(0.7)
    assert result.mean(0.8) == 1 and result.mean(0.85) == 0
    np.testing.assert_allclose(COCO_THRESHOLDS, [0.5, 0.55, 0.6, 0.65, 0.7, 0.75, 0.8, 0.85, 0.9, 0.95])


def test_class_without_truths_is_left_out_of_the_mean():
    truth = PictureTruth([[0, 0, 10, 10]], [0])
    found = PictureDetections([[0, 0, 10, 10], [0, 0, 5, 5]], [0.9, 0.8], [0, 1])
    result = evaluate([truth], [found], [0, 1], [0.5])
    assert result.mean() == 1.0 and np.isnan(result.classes[1].average_precision[0])
    assert result.classes[1].false_alarms[0] == 1


def test_nothing_to_measure_is_not_a_number():
    assert np.isnan(evaluate([], [], [0]).mean())


def test_unusable_input_is_refused():
    with pytest.raises(ValueError, match="pictures"):
        evaluate([PictureTruth([], [])], [], [0])
    with pytest.raises(ValueError, match="not a number"):
        PictureDetections([[0, 0, 1, 1]], [np.nan], [0])
    with pytest.raises(ValueError, match="interpolation"):
        average_precision([0.5], [True], 1, "7-point")


SPANS = {"all": (0.0, np.inf), "small": (0.0, 12.0), "middle": (12.0, 30.0), "large": (30.0, np.inf)}


@pytest.mark.long
@examples(150)
@given(st.lists(pictures(classes=3), min_size=1, max_size=5), st.integers(1, 6))
def test_measurement_equals_the_slow_version(scene, most):
    """Ties in score and IoU, crowds, ignored truths, empty pictures, classes without truths, areas."""
    thresholds, limits = [0.3, 0.5, 0.75, 1.0], sorted({1, most})
    truths, found = [each[0] for each in scene], [each[1] for each in scene]
    measured = measure_detections(truths, found, [2, 0, 1, 7], thresholds, SPANS, limits)
    for k, class_id in enumerate((2, 0, 1, 7)):
        for a, span in enumerate(SPANS.values()):
            for t, threshold in enumerate(thresholds):
                for m, limit in enumerate(limits):
                    expected = measure_slowly(scene, class_id, threshold, span, limit)
                    precision, recall, count, hits, false_alarms = expected
                    assert measured.truths[k, a] == count
                    if count:
                        assert measured.recall[t, k, a, m] == pytest.approx(recall, abs=1e-9)
                    else:
                        assert np.isnan(measured.recall[t, k, a, m])
                    if limit != max(limits):
                        continue
                    assert (measured.hits[t, k, a], measured.false_alarms[t, k, a]) == (hits, false_alarms)
                    if count:
                        assert measured.average_precision[t, k, a] == pytest.approx(precision, abs=1e-9)
                    else:
                        assert np.isnan(measured.average_precision[t, k, a])


def test_sizes_worked_by_hand():
    """A small truth found, a large one missed, and a large false alarm."""
    truth = PictureTruth([[0, 0, 10, 10], [100, 100, 300, 300]], [1, 1])
    found = PictureDetections([[0, 0, 10, 10], [400, 100, 600, 300]], [0.6, 0.9], [1, 1])
    measured = measure_detections([truth], [found], [1], [0.5], area_ranges(), (1, 10, 100))
    by_area = dict(zip(measured.areas, measured.average_precision[0, 0].tolist(), strict=True))
    # Of all: false alarm first, then one hit of two truths: precision 1/2 up to recall 1/2.
    assert by_area["all"] == pytest.approx(0.5 * 51 / 101)
    assert by_area["small"] == 1.0 and by_area["large"] == 0.0 and np.isnan(by_area["medium"])
    assert measured.recall[0, 0, 0].tolist() == [0.0, 0.5, 0.5]
    assert measured.mean(0.5, "small") == 1.0 and measured.mean_recall(1) == 0.0
    with pytest.raises(ValueError, match="2 pictures of truths, but 1"):
        measure_detections([truth, truth], [found], [1], [0.5])


def test_outlines_say_how_large_an_object_is():
    """A thin diagonal object: its box is large, its outline's area, as COCO has it, small."""
    boxes = [[0, 0, 100, 100], [200, 0, 300, 100]]
    found = PictureDetections(boxes, [0.9, 0.8], [1, 1])
    thin = PictureTruth(boxes, [1, 1], areas=[900, np.nan])
    for truth, small, large in ((PictureTruth(boxes, [1, 1]), 0, 2), (thin, 1, 1)):
        measured = measure_detections([truth], [found], [1], [0.5], area_ranges())
        counts = dict(zip(measured.areas, measured.truths[0].tolist(), strict=True))
        assert (counts["small"], counts["large"], counts["all"]) == (small, large, 2)
    with pytest.raises(ValueError, match="areas"):
        PictureTruth(boxes, [1, 1], areas=[900])


def random_scene(random, count):
    """Truths of three classes, found two times of three, with false alarms."""
    truths, found = [], []
    for _ in range(count):
        many = int(random.integers(1, 6))
        corners = random.uniform(0, 300, (many, 2))
        boxes = np.hstack([corners, corners + random.uniform(10, 40, (many, 2))])
        kinds = random.integers(0, 3, many)
        seen = random.random(many) < 0.67
        wrong = random.uniform(0, 300, (int(random.integers(0, 3)), 2))
        all_boxes = np.vstack(
            [boxes[seen] + random.normal(0, 1.5, (seen.sum(), 4)), np.hstack([wrong, wrong + 20])]
        )
        scores = np.concatenate([random.beta(4, 2, seen.sum()), random.beta(2, 4, len(wrong))])
        labels = np.concatenate([kinds[seen], random.integers(0, 3, len(wrong))])
        truths.append(PictureTruth(boxes, kinds))
        found.append(PictureDetections(all_boxes, scores, labels))
    return truths, found
