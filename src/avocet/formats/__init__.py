"""Annotation files to one neutral record and back."""
