"""Serving: waitress in front, the queue's workers beside it, all in one process."""

from __future__ import annotations

import ctypes
import ctypes.util
import os
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import waitress
from waitress.server import BaseWSGIServer

from pondel.core.errors import PondelError
from pondel.jobs.compiling import compiling
from pondel.jobs.queue import WORKERS, redis_url
from pondel.jobs.tasks import Jobs
from pondel.web import DEFAULT_MAX_UPLOAD_MB, create_app, security
from pondel.web.connections import LOOK_EVERY_S, MOST_CONNECTIONS, bound, raise_file_limit
from pondel.web.context import EXTENSION

THREADS = 16
M_ARENA_MAX, ARENAS = -8, 2
TURN_S = 0.001
"""Kernels let others at the interpreter; who comes back from one waits so long for it at most."""


def password() -> str | None:
    return os.environ.get("PONDEL_PASSWORD") or None


def check_host(host: str) -> None:
    """PondelError when the address would be open to others without a password."""
    security.check_host(host, password())


def max_upload_mb() -> int:
    """The upload limit in MB; PondelError when the setting is not a number."""
    text = os.environ.get("PONDEL_MAX_UPLOAD_MB", str(DEFAULT_MAX_UPLOAD_MB))
    if not text.isdigit() or int(text) < 1:
        raise PondelError(
            f"a whole number of megabytes is needed, not {text!r}", where="PONDEL_MAX_UPLOAD_MB"
        )
    return int(text)


def proxy() -> str | None:
    """The address of the proxy that speaks TLS for this server; PondelError without a password."""
    address = os.environ.get("PONDEL_PROXY") or None
    if address and not password():
        raise PondelError("others come through a proxy: set PONDEL_PASSWORD too", where="PONDEL_PROXY")
    return address


def check_workers(workers: int) -> None:
    """PondelError where nobody would take files in."""
    if not workers and redis_url() is None:
        raise PondelError(
            "without a Redis server in PONDEL_REDIS_URL nobody else can take files in",
            where="--workers 0",
        )


def keep_memory_together() -> None:
    """Let the C library's threads share two pools of memory, where it is the GNU one.

    A pool for each thread holds what its largest work took: a gigabyte after some hours.
    """
    name = ctypes.util.find_library("c")
    if name is None:
        return
    library = ctypes.CDLL(name)
    if hasattr(library, "mallopt"):
        library.mallopt(M_ARENA_MAX, ARENAS)


def serve(
    data_dir: Path,
    host: str,
    port: int,
    say: Callable[[str], None],
    workers: int = WORKERS,
    *,
    begin: Callable[[Jobs], None] = lambda jobs: None,
) -> None:
    """Serve until stopped; what is not compiled yet is, beside it, once folder and port are held.

    `begin` is called then too: what goes on behind the pages from the first one on.
    """
    sys.setswitchinterval(TURN_S)
    raise_file_limit()
    keep_memory_together()
    check_workers(workers)
    limit, trusted = max_upload_mb(), proxy()
    app = create_app(
        data_dir,
        password=password(),
        max_upload_mb=limit,
        workers=workers,
        behind_proxy=trusted is not None,
    )
    jobs: Jobs = app.extensions[EXTENSION]
    # Large uploads are held in files while they come in: on the disk where they are kept.
    tempfile.tempdir = str(jobs.library.folder.place("incoming"))
    jobs.start()
    sockets: dict[int, Any] = {}
    server = waitress.create_server(
        app,
        sockets,
        host=host,
        port=port,
        threads=THREADS,
        ident="pondel",
        max_request_body_size=(limit << 20) + (1 << 20),
        asyncore_use_poll=True,
        cleanup_interval=LOOK_EVERY_S,
        connection_limit=2 * MOST_CONNECTIONS,
        channel_request_lookahead=1,
        **trusting(trusted),
    )
    listening = [one for one in sockets.values() if isinstance(one, BaseWSGIServer)]
    for one in listening:
        bound(one, app)
    shown = f"[{host}]" if ":" in host else host
    say(f"Pondel is at http://{shown}:{listening[0].effective_port} (stop it with Ctrl-C)")
    try:
        with compiling(say):
            begin(jobs)
            server.run()
    finally:
        jobs.stop()


def trusting(trusted: str | None) -> dict[str, Any]:
    """What waitress is told of a proxy: who it is, and what it says of whom it stands for."""
    if trusted is None:
        return {}
    headers = {"x-forwarded-for", "x-forwarded-proto", "x-forwarded-host"}
    return {
        "trusted_proxy": trusted,
        "trusted_proxy_count": 1,
        "trusted_proxy_headers": headers,
        "clear_untrusted_proxy_headers": True,
    }
