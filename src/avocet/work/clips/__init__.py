"""Clips: taken in, their frames, and the objects that are labelled on them."""
