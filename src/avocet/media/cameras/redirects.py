"""Where an HTTP address of a camera leads, as long as it stays with the camera."""

import ssl
import urllib.request
from base64 import b64encode
from http.client import HTTPException, HTTPMessage
from typing import IO
from urllib.parse import SplitResult, unquote, urlsplit

from avocet.core.errors import InputError

USUAL_PORTS = {"http": 80, "https": 443}


class _WithTheCamera(urllib.request.HTTPRedirectHandler):
    """Follows to other paths, never to another host or port, which might be no camera at all."""

    def redirect_request(
        self,
        req: urllib.request.Request,
        fp: IO[bytes],
        code: int,
        msg: str,
        headers: HTTPMessage,
        newurl: str,
    ) -> urllib.request.Request | None:
        if _place(urlsplit(newurl)) != _place(urlsplit(req.full_url)):
            raise InputError(f"the camera sends to {newurl!r}; if that is right, give that address itself")
        return super().redirect_request(req, fp, code, msg, headers, newurl)


def where_it_leads(address: str, seconds: float) -> str:
    """The address behind redirects.

    Parameters
    ----------
    address : str
        Begins with ``http`` or ``https``; may hold a name and a password.
    seconds : float
        To wait for an answer.

    Returns
    -------
    str
        The address itself where nothing is redirected, or nothing answers.

    Raises
    ------
    InputError
        If it leads to another host, port or protocol.
    """
    parts = urlsplit(address)
    login, _, host = parts.netloc.rpartition("@")
    asked = urllib.request.Request(parts._replace(netloc=host).geturl())
    if login:
        asked.add_header("Authorization", f"Basic {b64encode(unquote(login).encode()).decode()}")
    # Cameras sign their certificates themselves, and FFmpeg asks for none either.
    unchecked = ssl.create_default_context()
    unchecked.check_hostname, unchecked.verify_mode = False, ssl.CERT_NONE
    opener = urllib.request.build_opener(
        urllib.request.ProxyHandler({}), urllib.request.HTTPSHandler(context=unchecked), _WithTheCamera
    )
    try:
        with opener.open(asked, timeout=seconds) as answer:
            led = urlsplit(answer.geturl())
    except (OSError, HTTPException):
        return address
    return led._replace(netloc=parts.netloc).geturl()


def _place(parts: SplitResult) -> tuple[str, str | None, int | None]:
    return parts.scheme, parts.hostname, parts.port or USUAL_PORTS.get(parts.scheme)
