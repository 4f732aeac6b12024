"""The page on which a browser brings the password: without a script, before anything else is handed out."""

from html import escape
from typing import Any
from urllib.parse import parse_qs

from avocet.web.door.keeper import COOKIE, Doorkeeper

PATH = "/sign-in"

LARGEST_FORM = 4096

PAGE = """<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width">
<title>Avocet: sign in</title>
<style>
body {{ background: #f8f5ec; color: #15181b; font: 16px/1.5 sans-serif; display: grid; place-items: center; min-height: 90vh; margin: 0 }}
form {{ width: 300px; display: grid; gap: 12px }}
h1 {{ font: 600 28px/1.2 serif; margin: 0 }}
label {{ display: grid; gap: 4px; font-weight: 600 }}
input {{ font: inherit; padding: 6px 9px; border: 1px solid #8d8a7e; background: #fffefa }}
button {{ font: inherit; font-weight: 600; padding: 7px; border: 0; background: #4a7397; color: #fff; cursor: pointer }}
input:focus-visible, button:focus-visible {{ outline: 2px solid #4a7397; outline-offset: 2px }}
p {{ margin: 0; color: #a33d22 }}
</style>
</head>
<body>
<form method="post" action="/sign-in">
<h1>Avocet</h1>
<label>Password <input type="password" name="password" autocomplete="current-password" autofocus required></label>
{said}
<button>Sign in</button>
</form>
</body>
</html>
"""

SAFE = [
    (b"cache-control", b"no-store"),
    (b"x-content-type-options", b"nosniff"),
    (b"x-frame-options", b"DENY"),
    (b"referrer-policy", b"same-origin"),
    (b"content-security-policy", b"default-src 'none'; style-src 'unsafe-inline'; form-action 'self'"),
]

Answer = tuple[int, list[tuple[bytes, bytes]], bytes]


def shown(said: str = "", status: int = 200) -> Answer:
    """The page, with a word on what was wrong."""
    told = f'<p role="alert">{escape(said)}</p>' if said else ""
    return status, [(b"content-type", b"text/html; charset=utf-8"), *SAFE], PAGE.format(said=told).encode()


def to(place: str, more: list[tuple[bytes, bytes]] | None = None) -> Answer:
    """Somewhere else."""
    return 303, [(b"location", place.encode()), (b"cache-control", b"no-store"), *(more or [])], b""


async def signed_in(keeper: Doorkeeper, headers: dict[bytes, bytes], body: bytes, client: str) -> Answer:
    """What a form that was sent comes to."""
    origin, host = headers.get(b"origin", b"").decode("latin-1"), headers.get(b"host", b"").decode("latin-1")
    if origin and origin.partition("://")[2] != host:
        return shown("Sign in on the page of this server itself", 403)
    fields: dict[str, Any] = parse_qs(
        body.decode("utf-8", "replace"), keep_blank_values=True, max_num_fields=4
    )
    token = await keeper.sign_in(fields.get("password", [""])[0], client)
    if token is None:
        return shown("This is not the password", 401)
    cookie = f"{COOKIE}={token}; Path=/; HttpOnly; SameSite=Strict"
    return to("/", [(b"set-cookie", cookie.encode())])
