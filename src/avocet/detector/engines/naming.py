"""What a graph calls its input, its outputs and its card: for whoever writes it and whoever runs it."""

INPUT, CARD_KEY, BITS_KEY = "pixels", "card", "bits"


def output_name(stride: int) -> str:
    """What a graph calls a level's output.

    Examples
    --------
    >>> output_name(8)
    'stride_8'
    """
    return f"stride_{stride}"
