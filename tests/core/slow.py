"""Slow, obviously right versions of the algorithms, written straight from their definitions."""

from fractions import Fraction

import numpy as np


def iou_of_two(a, b, crowd=False):
    width = max(0.0, min(a[2], b[2]) - max(a[0], b[0]))
    height = max(0.0, min(a[3], b[3]) - max(a[1], b[1]))
    shared = width * height
    own = max(0.0, a[2] - a[0]) * max(0.0, a[3] - a[1])
    other = max(0.0, b[2] - b[0]) * max(0.0, b[3] - b[1])
    whole = own if crowd else own + other - shared
    return shared / whole if whole > 0 else 0.0


def suppress_slowly(boxes, scores, limit, classes=None):
    """Kept indices and, for each box, who dropped it."""
    left = sorted(range(len(boxes)), key=lambda i: -scores[i])
    kept, dropped_by = [], [-1] * len(boxes)
    while left:
        best, *left = left
        kept.append(best)
        rest = []
        for other in left:
            same = classes is None or classes[best] == classes[other]
            if same and iou_of_two(boxes[best], boxes[other]) > limit:
                dropped_by[other] = best
            else:
                rest.append(other)
        left = rest
    return kept, dropped_by


def match_slowly(detections, scores, truths, threshold, ignored, crowd):
    """Truth taken by each detection at one threshold, by the COCO rules word for word."""
    threshold = min(threshold, 1 - 1e-10)
    taken_by = {}
    free = [True] * len(truths)
    by_preference = sorted(range(len(truths)), key=lambda j: bool(ignored[j] or crowd[j]))
    for i in sorted(range(len(detections)), key=lambda i: -scores[i]):
        best, best_overlap = None, threshold
        for j in by_preference:
            if not free[j]:
                continue
            if best is not None and not (ignored[best] or crowd[best]) and (ignored[j] or crowd[j]):
                break
            overlap = iou_of_two(detections[i], truths[j], crowd[j])
            if overlap < best_overlap:
                continue
            best, best_overlap = j, overlap
        if best is not None:
            taken_by[i] = best
            free[best] = bool(crowd[best])
    return [taken_by.get(i, -1) for i in range(len(detections))]


def measure_slowly(scene, class_id, threshold, span, limit):
    """AP, recall, truths, hits and false alarms of one class, IoU and area range, picture by picture."""

    def outside(box):
        return not span[0] <= (box[2] - box[0]) * (box[3] - box[1]) <= span[1]

    scores, hits, truths, false_alarms = [], [], 0, 0
    for truth, found in scene:
        real = [i for i in range(len(truth.boxes)) if truth.classes[i] == class_id]
        boxes = [truth.boxes[i] for i in real]
        crowd = [bool(truth.crowd[i]) for i in real]
        ignored = [bool(truth.ignored[i]) or crowd[n] or outside(boxes[n]) for n, i in enumerate(real)]
        truths += ignored.count(False)
        mine = [i for i in range(len(found.boxes)) if found.classes[i] == class_id]
        mine = sorted(mine, key=lambda i: -found.scores[i])[:limit]
        own = [found.boxes[i] for i in mine]
        taken = match_slowly(own, [found.scores[i] for i in mine], boxes, threshold, ignored, crowd)
        for box, index, partner in zip(own, mine, taken, strict=True):
            if ignored[partner] if partner >= 0 else outside(box):
                continue
            scores.append(found.scores[index])
            hits.append(partner >= 0)
    false_alarms = hits.count(False)
    precision = average_precision_slowly(scores, hits, truths, "101-point") if truths else None
    return precision, (sum(hits) / truths if truths else None), truths, sum(hits), false_alarms


def average_precision_slowly(scores, hits, truths, interpolation):
    order = sorted(range(len(scores)), key=lambda i: -scores[i])
    points, found = [], 0
    for rank, i in enumerate(order, start=1):
        found += bool(hits[i])
        points.append((found / truths, found / rank))

    def best_precision_from(recall):
        return max((p for r, p in points if r >= recall), default=0.0)

    if interpolation == "exact-area":
        total, last = 0.0, 0.0
        for recall, _ in points:
            total += (recall - last) * best_precision_from(recall)
            last = recall
        return total
    # A recall that equals a point reaches it: compared as fractions.
    count = 101 if interpolation == "101-point" else 11
    levels = [Fraction(number, count - 1) for number in range(count)]
    exact, found = [], 0
    for rank, i in enumerate(order, start=1):
        found += bool(hits[i])
        exact.append((Fraction(found, int(truths)), found / rank))
    return float(np.mean([max((p for r, p in exact if r >= level), default=0.0) for level in levels]))


def weighted_precision_slowly(scene, weights, class_id, threshold):
    """Average precision of pictures that count more or less; None where there is no truth."""
    rows, truths = [], 0.0
    for number, ((truth, found), weight) in enumerate(zip(scene, weights, strict=True)):
        real = [i for i in range(len(truth.boxes)) if truth.classes[i] == class_id]
        ignored = [bool(truth.ignored[i] or truth.crowd[i]) for i in real]
        crowd = [bool(truth.crowd[i]) for i in real]
        truths += weight * ignored.count(False)
        mine = [i for i in range(len(found.boxes)) if found.classes[i] == class_id]
        mine = sorted(mine, key=lambda i: -found.scores[i])
        boxes = [truth.boxes[i] for i in real]
        taken = match_slowly(
            [found.boxes[i] for i in mine], [found.scores[i] for i in mine], boxes, threshold, ignored, crowd
        )
        for rank, (index, partner) in enumerate(zip(mine, taken, strict=True)):
            if partner < 0 or not ignored[partner]:
                rows.append((-found.scores[index], number, rank, weight, partner >= 0))
    if not truths:
        return None
    right = seen = 0.0
    points = []
    for *_, weight, hit in sorted(rows):
        right, seen = right + weight * hit, seen + weight
        points.append((right / truths, right / seen))
    levels = [number / 100 - 1e-9 for number in range(101)]
    return float(np.mean([max((p for r, p in points if r >= level), default=0.0) for level in levels]))


def decode_slowly(levels, anchors, strides, reach):
    """Boxes, objectness, class probabilities and origin, one cell after the other."""
    rows = []
    for number, (raw, sizes, stride) in enumerate(zip(levels, anchors, strides, strict=True)):
        for row in range(raw.shape[2]):
            for column in range(raw.shape[3]):
                for anchor in range(raw.shape[0]):
                    value = raw[anchor, :, row, column]
                    sigmoid = 1 / (1 + np.exp(-value))
                    x = (column + 0.5 + reach * (sigmoid[0] - 0.5)) * stride
                    y = (row + 0.5 + reach * (sigmoid[1] - 0.5)) * stride
                    w, h = sizes[anchor][0] * np.exp(value[2]), sizes[anchor][1] * np.exp(value[3])
                    rows.append(
                        (
                            [x - w / 2, y - h / 2, x + w / 2, y + h / 2],
                            sigmoid[4],
                            sigmoid[5:],
                            [number, row, column, anchor],
                        )
                    )
    return rows
