"""Annotation files in and out."""
