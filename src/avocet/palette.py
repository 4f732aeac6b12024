"""The colours of classes."""

COLOURS = (
    "#E8A33D",
    "#5FA8D3",
    "#D3597E",
    "#8CB369",
    "#B08BD9",
    "#F2E16B",
    "#4FBFA8",
    "#E4703A",
    "#A9B8C9",
    "#C49A6C",
)
"""Told apart by people with the common colour-vision deficiencies, and light enough for the dark stage."""
