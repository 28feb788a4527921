"""The gate before the application: a body from somebody who is not logged in is not received."""

from __future__ import annotations

from flask import Flask
from flask.sessions import SecureCookieSessionInterface
from itsdangerous import BadSignature
from waitress.channel import HTTPChannel
from waitress.parser import HTTPRequestParser
from waitress.utilities import Error
from werkzeug.http import parse_cookie

from pondel.store.logins import Logins
from pondel.web.security import LOGIN_EXTENSION, MOST_LOGIN_BYTES


class Unauthorized(Error):
    """What such a request is answered with."""

    code = 401
    reason = "Unauthorized"


def gated_channel(app: Flask) -> type[HTTPChannel]:
    """The server's channel, which looks at the headers before it takes a body in."""
    logins: Logins | None = app.extensions[LOGIN_EXTENSION]

    class GatedParser(HTTPRequestParser):
        """Ends a request after its headers when its body is not welcome."""

        def parse_header(self, header_plus: bytes) -> None:
            super().parse_header(header_plus)
            if logins is None or not (self.content_length > 0 or self.chunked):
                return
            small = not self.chunked and self.content_length <= MOST_LOGIN_BYTES
            if small or is_logged_in(app, logins, self.headers.get("COOKIE", "")):
                return
            self.expect_continue = False
            self.error = Unauthorized("Log in first.")
            self.completed = True

    class GatedChannel(HTTPChannel):
        parser_class = GatedParser

    return GatedChannel


def is_logged_in(app: Flask, logins: Logins, cookies: str) -> bool:
    """Whether a request's cookies hold a login that lives."""
    signed = parse_cookie(cookies).get(app.config["SESSION_COOKIE_NAME"], "")
    serializer = SecureCookieSessionInterface().get_signing_serializer(app)
    if not signed or serializer is None:
        return False
    try:
        token = serializer.loads(signed).get("_user_id")
    except BadSignature:
        return False
    return isinstance(token, str) and logins.is_live(token)
