"""Avocet: annotate bounding boxes, train a detector, measure it and use it."""

__version__ = "0.1.0"
