"""Pictures of more than 8 bits, as files."""

import io
import struct
import zlib

from PIL import Image


def deep_png(values, bits=None):
    """A PNG of 16 bits, which may say how many of them mean something."""
    held = io.BytesIO()
    Image.fromarray(values).save(held, "PNG")
    content = held.getvalue()
    if bits is None:
        return content
    note = bytes([bits])
    chunk = struct.pack(">I", len(note)) + b"sBIT" + note + struct.pack(">I", zlib.crc32(b"sBIT" + note))
    return content[:33] + chunk + content[33:]
