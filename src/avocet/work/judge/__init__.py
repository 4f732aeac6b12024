"""Measurements: ordered, made, opened, explained, compared."""
