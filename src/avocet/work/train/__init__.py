"""Runs and studies: planned, trained, followed, compared."""
