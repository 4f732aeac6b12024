"""Schemas of the server itself."""
