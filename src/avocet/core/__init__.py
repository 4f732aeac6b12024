"""Arrays in, arrays out: the computation, without files, network, database or interface.

Boxes are ``(N, 4)`` float64 arrays of ``[x1, y1, x2, y2]`` in continuous pixels of the
original picture: the origin is the top-left corner of the top-left pixel, y points down,
and a width is ``x2 - x1``.
"""
