"""Asking a server as a program does: JSON and files out, JSON back."""

import http.client
import json
import urllib.error
import urllib.request

FORM = "multipart/form-data; boundary=x"
"""The kind of a `multipart` body."""


class Away(Exception):
    """The server did not answer."""


def ask(url, body=None, method=None, kind="application/json", **headers):
    """The JSON of an answer; `Away` where there was none."""
    content = json.dumps(body).encode() if isinstance(body, dict | list) else body
    request = urllib.request.Request(url, content, {"Content-Type": kind, **headers}, method=method)
    try:
        with urllib.request.urlopen(request, timeout=60) as reply:
            return reply.status, json.loads(reply.read() or b"null")
    except urllib.error.HTTPError as error:
        return error.code, json.loads(error.read() or b"null")
    except (OSError, ValueError, http.client.HTTPException) as error:
        # Broken off in the middle, or nobody there.
        raise Away(str(error)) from None


def multipart(field, name, content, **values):
    """A body with a file and some fields."""
    parts = [
        f'--x\r\nContent-Disposition: form-data; name="{key}"\r\n\r\n{value}\r\n'
        for key, value in values.items()
    ]
    head = f'--x\r\nContent-Disposition: form-data; name="{field}"; filename="{name}"\r\n\r\n'
    return "".join(parts).encode() + head.encode() + content + b"\r\n--x--\r\n"
