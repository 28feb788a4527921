"""Styles, fonts and scripts, as shipped: a browser keeps them until they change.

They stand under an address that holds a hash of them all, so that none of them is asked for again by
the next page, and none of an older Pondel is ever used.
"""

from __future__ import annotations

import hashlib
from pathlib import Path

from flask import Response, request

SHIPPED = Path(__file__).parent / "static"
KEPT_S = 365 * 24 * 3600


def shipped_at(folder: Path = SHIPPED) -> str:
    """The address that the files of a folder stand under."""
    made = hashlib.sha256()
    for path in sorted(path for path in folder.rglob("*") if path.is_file()):
        body = path.read_bytes()
        made.update(f"{path.relative_to(folder).as_posix()} {len(body)}\0".encode())
        made.update(body)
    return f"/static/{made.hexdigest()[:16]}"


def keep_shipped(response: Response) -> Response:
    """Let browsers keep what is shipped."""
    if request.endpoint == "static" and response.status_code in (200, 206, 304):
        del response.headers["Expires"]
        response.headers["Cache-Control"] = f"public, max-age={KEPT_S}, immutable"
    return response
