"""The web application. `create_app(data_dir)` makes one; nothing is global."""

from __future__ import annotations

from pathlib import Path

from flask import Flask, Response, request

from pondel.core.dsp.fold import MONITOR_FOLDS
from pondel.jobs.queue import WORKERS
from pondel.jobs.tasks import Jobs
from pondel.store.library import Library
from pondel.store.logins import Logins
from pondel.store.secret import secret_key
from pondel.web import ink, security, words
from pondel.web.asked import register_addresses
from pondel.web.context import EXTENSION
from pondel.web.failures import register_failures
from pondel.web.shipped import keep_shipped, shipped_at
from pondel.web.spans import tell_spans

DEFAULT_MAX_UPLOAD_MB = 2048

MANY_PARTS = 12
"""Of more parts than this one is found by typing."""


def create_app(
    data_dir: Path,
    *,
    password: str | None = None,
    max_upload_mb: int = DEFAULT_MAX_UPLOAD_MB,
    immediate: bool = False,
    testing: bool = False,
    workers: int = WORKERS,
    behind_proxy: bool = False,
) -> Flask:
    """The application over one data folder.

    With a password every address but the login needs it; without one only local host names are
    answered. `immediate` runs queued work inside the request, for tests. The caller starts the
    workers with `jobs_of(app).start()`; with no `workers` files and prints are left to processes of
    their own. `behind_proxy` it is reached through one that speaks TLS: its cookie goes nowhere else.
    """
    app = Flask(__name__, static_url_path=shipped_at())
    jobs = Jobs(Library(data_dir), immediate=immediate, workers=workers)
    app.extensions[EXTENSION] = jobs
    key = secret_key(jobs.library.data_dir)
    app.config.update(
        SECRET_KEY=key,
        MAX_CONTENT_LENGTH=max_upload_mb << 20,
        MAX_FORM_MEMORY_SIZE=4 << 20,
        SESSION_COOKIE_SAMESITE="Strict",
        SESSION_COOKIE_NAME="pondel",
        TESTING=testing,
        WTF_CSRF_TIME_LIMIT=None,
        SEND_FILE_MAX_AGE_DEFAULT=0,
    )
    app.jinja_env.trim_blocks = app.jinja_env.lstrip_blocks = True
    app.jinja_env.filters.update(words.FILTERS)
    app.jinja_env.globals.update(inked=ink.inked, monitor_folds=MONITOR_FOLDS, many=MANY_PARTS)
    register_addresses(app)
    logins = Logins(jobs.library.tables.Login, security.password_print(key, password))
    security.secure(app, password, logins, behind_proxy=behind_proxy)
    app.after_request(answer_in_order)
    app.after_request(keep_nothing)
    app.after_request(keep_shipped)
    tell_spans(app)
    register_failures(app)
    register_screens(app)
    return app


def answer_in_order(response: Response) -> Response:
    """Every answer carries the number of its question, where the page gave it one.

    Sound does not: it is named by its content, and a browser hands what it kept to later questions.
    """
    number = request.headers.get("Pondel-Order", "")
    if not response.cache_control.immutable and number.isdecimal() and len(number) <= 15:
        response.headers["Pondel-Order"] = number
    return response


def keep_nothing(response: Response) -> Response:
    """A browser keeps no answer that does not say so itself: it is about the session as it was.

    Who keeps answers also lets one question wait for another to the same address, up to 20 s.
    """
    if not response.cache_control:
        response.cache_control.no_store = True
    return response


def register_screens(app: Flask) -> None:
    """One blueprint for each screen, and those the screens share."""
    from pondel.web import (
        blind,
        both_ways,
        contrast,
        deck,
        editing,
        fight_in_view,
        handoff,
        intake,
        lanes,
        moves,
        pair,
        pictures,
        plan,
        proof,
        recall,
        recipes,
        references,
        sessions,
        ways,
    )

    for module in (
        sessions,
        intake,
        lanes,
        moves,
        pair,
        pictures,
        plan,
        ways,
        both_ways,
        proof,
        references,
        blind,
        handoff,
        recall,
        editing,
        deck,
        fight_in_view,
        contrast,
        recipes,
    ):
        app.register_blueprint(module.blueprint)
