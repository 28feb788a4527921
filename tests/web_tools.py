"""What the tests of the web application share."""

from __future__ import annotations

import io
import re
import time
from collections.abc import Callable
from typing import Any

import numpy as np
import soundfile
from flask import Flask
from flask.testing import FlaskClient

from pondel.jobs.tasks import Jobs
from pondel.web.context import EXTENSION

RATE = 48000
AROUND = ("base", "gesture", "page", "listen")


def until(found: Callable[[], Any], seconds: float = 30.0) -> Any:
    """What `found` returns once that is true; AssertionError when it never is."""
    ends = time.monotonic() + seconds
    while not (result := found()):
        assert time.monotonic() < ends, "never came true"
        time.sleep(0.02)
    return result


def jobs_of(app: Flask) -> Jobs:
    return app.extensions[EXTENSION]


def audio(samples: np.ndarray, *, rate: int = RATE, format: str = "WAV", subtype: str = "PCM_24"):
    """An audio file's bytes."""
    out = io.BytesIO()
    soundfile.write(out, samples, rate, subtype, format=format)
    return out.getvalue()


class Caller:
    """A client that carries the token the pages carry."""

    def __init__(self, client: FlaskClient, path: str = "/sessions") -> None:
        self.client = client
        page = client.get(path, follow_redirects=True).get_data(as_text=True)
        self.token = re.search(r'name="csrf" content="([^"]+)"', page)[1]

    def post(self, path: str, **options):
        headers = {"X-CSRFToken": self.token}
        return self.client.post(path, headers=headers, **options)

    def upload(self, session_id: str, *files: tuple[str, bytes]):
        data = {"file": [(io.BytesIO(body), name) for name, body in files]}
        return self.post(f"/sessions/{session_id}/arrivals", data=data)

    def edit(self, session_id: str, **body):
        if "base" not in body:
            body["base"] = self.client.get(f"/sessions/{session_id}/facts").json["revision"]
        around = {name: body.pop(name) for name in AROUND if name in body}
        return self.post(f"/sessions/{session_id}/edit", json={"do": body, **around})
