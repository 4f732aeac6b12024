"""Cameras: the newest picture of each, from a network or from the page."""
