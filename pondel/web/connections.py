"""Connections before they reach the application: how many there are, how long they may take.

for server in listening:
    bound(server, app)

A body from somebody who is not logged in is not received. Of more connections than there is room for
idle ones are closed first, then new ones are refused; whoever is at work keeps theirs.
"""

from __future__ import annotations

import logging
import resource
import socket
import time
from contextlib import suppress

from flask import Flask
from flask.sessions import SecureCookieSessionInterface
from itsdangerous import BadSignature
from waitress.channel import HTTPChannel
from waitress.parser import HTTPRequestParser
from waitress.server import BaseWSGIServer
from waitress.utilities import Error
from werkzeug.http import parse_cookie

from pondel.core.errors import DiskFull
from pondel.store.logins import Logins
from pondel.store.room import is_full
from pondel.web.security import LOGIN_EXTENSION, MOST_LOGIN_BYTES

log = logging.getLogger("pondel.web")
MOST_CONNECTIONS = 400
HEADERS_S, SMALL_BODY_S, IDLE_S = 10.0, 30.0, 120.0
"""How long a request's headers, a body of a stranger, and a connection without a request may take."""
LOOK_EVERY_S = 2
BUSY = (
    b"HTTP/1.1 503 Service Unavailable\r\nContent-Type: text/plain; charset=utf-8\r\n"
    b"Connection: close\r\nRetry-After: 5\r\nContent-Length: 45\r\n\r\n"
    b"Too many connections: try again in a moment.\n"
)


def raise_file_limit() -> None:
    """Let this process open as many files as the system allows: connections count among them."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    if soft != hard:
        with suppress(ValueError, OSError):
            resource.setrlimit(resource.RLIMIT_NOFILE, (hard, hard))


def bound(server: BaseWSGIServer, app: Flask) -> None:
    """Let a server close what is idle or slow, and refuse what is too much."""
    server.channel_class = gated_channel(app)
    accept = server.handle_accept

    def accept_or_refuse() -> None:
        if len(server.active_channels) < MOST_CONNECTIONS or _close_an_idle_one(server):
            accept()
        else:
            _refuse(server)

    def maintenance(now: float) -> None:
        for channel in list(server.active_channels.values()):
            if _is_too_slow(channel, now):
                channel.will_close = True

    server.handle_accept = accept_or_refuse
    server.maintenance = maintenance


def _close_an_idle_one(server: BaseWSGIServer) -> bool:
    """Close a connection that does nothing: one that never asked before one that has."""
    now = time.time()
    idle = [one for one in server.active_channels.values() if _is_idle(one, now)]
    if not idle:
        return False
    min(idle, key=lambda one: (one.has_asked, one.last_activity)).handle_close()
    return True


def _is_idle(channel: HTTPChannel, now: float) -> bool:
    """Whether nothing is asked, or what is sent or received has stood still for some seconds."""
    if channel.requests:
        return False
    is_receiving = channel.request is not None and channel.request.headers_finished
    has_stopped = now - channel.last_activity > HEADERS_S
    return has_stopped or not (is_receiving or channel.total_outbufs_len)


def _is_too_slow(channel: HTTPChannel, now: float) -> bool:
    if channel.requests:
        return False
    if channel.total_outbufs_len:
        return now - channel.last_activity > IDLE_S
    request = channel.request
    if request is None:
        limit_s = IDLE_S if channel.has_asked else HEADERS_S
        return now - channel.last_activity > limit_s
    if not request.headers_finished:
        return now - channel.began > HEADERS_S
    if 0 <= request.content_length <= MOST_LOGIN_BYTES and not request.chunked:
        return now - channel.began > SMALL_BODY_S
    return now - channel.last_activity > IDLE_S


def _refuse(server: BaseWSGIServer) -> None:
    """Answer a new connection in plain words and close it."""
    try:
        accepted = server.accept()
    except OSError:
        return
    if accepted is None:
        return
    connection, _ = accepted
    with suppress(OSError):
        connection.setblocking(False)
        connection.send(BUSY)
        connection.shutdown(socket.SHUT_WR)
    connection.close()
    log.warning("a connection was refused: %d are open", MOST_CONNECTIONS)


class Unauthorized(Error):
    """What such a request is answered with."""

    code = 401
    reason = "Unauthorized"


class Full(Error):
    """What an upload is answered with for which there is no room."""

    code = 507
    reason = "Insufficient Storage"


def gated_channel(app: Flask) -> type[HTTPChannel]:
    """The server's channel, which looks at the headers before it takes a body in."""
    logins: Logins | None = app.extensions[LOGIN_EXTENSION]

    class GatedParser(HTTPRequestParser):
        """Ends a request after its headers when its body is not welcome.

        A body for which there is no room is received to its end, so that its sender reads why.
        """

        unkept = 0
        """How much of such a body is still to come."""

        def received(self, data: bytes) -> int:
            if self.unkept:
                return self._pass_over(data)
            try:
                return super().received(data)
            except OSError as error:
                if not is_full(error) or self.chunked:
                    raise
                self.unkept = self.body_rcv.remain
                return self._pass_over(data)

        def _pass_over(self, data: bytes) -> int:
            taken = min(len(data), self.unkept)
            self.unkept -= taken
            if not self.unkept:
                self.error = Full(DiskFull().message)
                self.completed = True
            return taken

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
        """A connection that knows when its request began, and whether it ever made one."""

        parser_class = GatedParser
        has_asked = False
        began = 0.0

        def received(self, data: bytes) -> bool:
            if self.request is None:
                self.began = time.time()
            done = super().received(data)
            self.has_asked = self.has_asked or bool(self.requests)
            return done

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
