"""What went wrong, said where it happened: beside the control, as a message, or as a page."""

from __future__ import annotations

from flask import Flask, render_template, request
from flask_wtf.csrf import CSRFError
from werkzeug.exceptions import HTTPException, RequestEntityTooLarge, SecurityError

from pondel.core.errors import NotFound, PondelError, StaleEdit

STATUSES = {NotFound: 404, StaleEdit: 409}
TITLES = {404: "That is not here", 405: "That does not go this way", 413: "Too large"}


def wants_json() -> bool:
    """Whether a script asked rather than a person."""
    return bool(request.headers.get("X-CSRFToken")) or "json" in request.headers.get("Accept", "")


def answer(message: str, status: int, where: str | None = None):
    """The failure as JSON for scripts, else as a page."""
    if wants_json():
        return {"message": message, "where": where}, status
    title = TITLES.get(status, "That did not work")
    return render_template("failure.html", title=title, message=message), status


def register_failures(app: Flask) -> None:
    """Turn the project's errors and those of HTTP into messages."""

    @app.errorhandler(PondelError)
    def told(error: PondelError):
        status = next((code for kind, code in STATUSES.items() if isinstance(error, kind)), 400)
        return answer(error.message, status, error.where)

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
