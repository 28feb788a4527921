"""The secret of a data folder: it signs cookies and the messages of its queue."""

from __future__ import annotations

import secrets
from pathlib import Path

from pondel.store.folder import keep_bytes
from pondel.store.locks import unwritable

KEY_BYTES = 32


def secret_key(data_dir: Path) -> bytes:
    """The key of a data folder, made once, and again where it is missing or damaged."""
    path = data_dir / "secret.key"
    try:
        key = path.read_bytes() if path.is_file() else b""
        if len(key) < KEY_BYTES:
            key = secrets.token_bytes(KEY_BYTES)
            keep_bytes(path, key)
    except OSError as error:
        raise unwritable(path) from error
    return key
