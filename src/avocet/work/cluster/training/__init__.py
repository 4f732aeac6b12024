"""Trainings on several machines: one over all of them, or many at once."""
