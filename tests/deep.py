"""Pictures of more than 8 bits, as files: what Pillow cannot write is put together by hand."""

import struct
import zlib

import numpy as np

COLOUR_TYPES = {1: 0, 2: 4, 3: 2, 4: 6}
"""Of a PNG, by its channels."""


def deep_png(values, bits=None):
    """A PNG of 16 bits a channel, (H, W) or (H, W, channels), which may say how many of them mean something."""
    height, width = values.shape[:2]
    channels = values.shape[2] if values.ndim == 3 else 1
    rows = b"".join(b"\0" + row.astype(">u2").tobytes() for row in values)
    parts = [(b"IHDR", struct.pack(">IIBBBBB", width, height, 16, COLOUR_TYPES[channels], 0, 0, 0))]
    if bits is not None:
        parts.append((b"sBIT", bytes([bits] * channels)))
    parts += [(b"IDAT", zlib.compress(rows)), (b"IEND", b"")]
    content = b"\x89PNG\r\n\x1a\n"
    for kind, data in parts:
        content += struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))
    return content


def deep_tiff(values, order="<", packed=False, most=None):
    """A TIFF of colours of 16 bits a channel, (H, W, 3 or 4), which may say what its largest value is."""
    height, width, channels = values.shape
    data = values.astype(f"{order}u2").tobytes()
    data = zlib.compress(data) if packed else data
    entries = [
        (256, 4, 1, width),
        (257, 4, 1, height),
        (258, 3, channels, None),
        (259, 3, 1, 8 if packed else 1),
    ]
    entries += [(262, 3, 1, 2), (273, 4, 1, None), (277, 3, 1, channels), (278, 4, 1, height)]
    entries += [(279, 4, 1, len(data))]
    if most is not None:
        entries.append((281, 3, channels, None))
    entries.append((284, 3, 1, 1))
    if channels == 4:
        entries.append((338, 3, 1, 2))
    lists = {258: [16] * channels, 281: [most or 0] * channels}
    at = 8 + 2 + 12 * len(entries) + 4
    behind, table = b"", b""
    for tag, kind, count, value in entries:
        if tag in lists:
            value, count = at + len(behind), channels
            behind += struct.pack(f"{order}{channels}H", *lists[tag])
        if tag == 273:
            value = at + 2 * channels * sum(each[0] in lists for each in entries)
        short = kind == 3 and tag not in lists
        table += struct.pack(f"{order}HHI", tag, kind, count)
        table += struct.pack(f"{order}HH", value, 0) if short else struct.pack(f"{order}I", value)
    head = (b"II" if order == "<" else b"MM") + struct.pack(f"{order}HIH", 42, 8, len(entries))
    return head + table + struct.pack(f"{order}I", 0) + behind + data


def twelve_bits_scaled(values):
    """Values of 12 bits scaled to 16, as the PNG standard wants it."""
    return (values << 4 | values >> 8).astype(np.uint16)
