"""What went wrong, said where it happened: beside the control, as a message, or as a page."""

from __future__ import annotations

import logging
import sqlite3

from flask import Flask, render_template, request
from flask_wtf.csrf import CSRFError
from peewee import DatabaseError
from werkzeug.exceptions import HTTPException, RequestEntityTooLarge, SecurityError

from pondel.core.errors import Busy, DiskFull, NotFound, NotYet, PondelError, StaleEdit
from pondel.store.room import is_full
from pondel.web import waiting
from pondel.web.context import jobs

log = logging.getLogger("pondel.web")
STATUSES = {NotFound: 404, StaleEdit: 409, NotYet: 503, Busy: 429, DiskFull: 507}
TITLES = {
    404: "That is not here",
    405: "That does not go this way",
    413: "Too large",
    429: "Busy for a moment",
    507: "The disk is full",
}
DATA_ENDPOINTS = {"deck.sound", "blind.sound"}
"""What only the player asks for."""
DAMAGED = (
    "the database is damaged: stop Pondel, and put the newest copy of it back with `pondel restore`"
)


def wants_json() -> bool:
    """Whether a script asked rather than a person."""
    if request.endpoint in DATA_ENDPOINTS:
        return True
    return bool(request.headers.get("X-CSRFToken")) or "json" in request.headers.get("Accept", "")


def answer(message: str, status: int, where: str | None = None):
    """The failure as JSON for scripts, else as a page."""
    if wants_json():
        return {"message": message, "where": where}, status
    title = TITLES.get(status, "That did not work")
    return render_template("failure.html", title=title, message=message), status


def measuring(error: NotYet, session_id: str):
    """A page that waits while the recordings of a session are measured, and begins with that."""
    found = jobs().songs.measure(session_id)
    if request.headers.get("HX-Request"):
        return "", 200, {"HX-Refresh": "true"}
    if wants_json():
        return {"message": error.message, "where": None}, 503
    return waiting.measuring(found), 503


def register_failures(app: Flask) -> None:
    """Turn the project's errors and those of HTTP into messages."""

    @app.errorhandler(PondelError)
    def told(error: PondelError):
        status = next((code for kind, code in STATUSES.items() if isinstance(error, kind)), 400)
        session_id = (request.view_args or {}).get("session_id")
        if isinstance(error, NotYet) and session_id is not None:
            return measuring(error, session_id)
        return answer(error.message, status, error.where)

    @app.errorhandler(OSError)
    @app.errorhandler(DatabaseError)
    @app.errorhandler(sqlite3.DatabaseError)
    def system(error: Exception):
        if is_full(error):
            return answer(DiskFull().message, 507)
        if type(error) in (DatabaseError, sqlite3.DatabaseError):
            log.error("the database cannot be read: %s", error)
            return answer(DAMAGED, 500)
        raise error

    @app.errorhandler(RequestEntityTooLarge)
    def too_large(error):
        limit = app.config["MAX_CONTENT_LENGTH"] >> 20
        return answer(
            f"the upload is larger than {limit} MB; raise PONDEL_MAX_UPLOAD_MB to allow more", 413
        )

    @app.errorhandler(CSRFError)
    def no_token(error):
        return answer("this page is out of date: load it again and repeat the step", 400)

    @app.errorhandler(SecurityError)
    def strange_host(error):
        return "This address is not one Pondel answers to.\n", 400, {"Content-Type": "text/plain"}

    @app.errorhandler(HTTPException)
    def http(error: HTTPException):
        return answer(error.description or error.name, error.code or 500)
