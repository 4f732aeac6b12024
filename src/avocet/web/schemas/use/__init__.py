"""Schemas of using a model."""
