"""Only who belongs: local names or a password, tokens on writes, and a strict content policy."""

from __future__ import annotations

import hmac
import ipaddress
from urllib.parse import urlsplit

from flask import Blueprint, Flask, redirect, render_template, request, url_for
from flask_login import LoginManager, UserMixin, current_user, login_user, logout_user
from flask_talisman import Talisman
from flask_wtf import CSRFProtect
from limits import parse_many
from limits.storage import MemoryStorage
from limits.strategies import MovingWindowRateLimiter
from werkzeug.exceptions import SecurityError

from pondel.core.errors import PondelError
from pondel.store.logins import Logins

POLICY = {
    "default-src": "'self'",
    "script-src": "'self'",
    "style-src": "'self'",
    "img-src": "'self' data:",
    "font-src": "'self'",
    "connect-src": "'self'",
    "object-src": "'none'",
    "base-uri": "'self'",
    "form-action": "'self'",
    "frame-ancestors": "'none'",
}
LOCAL_NAMES = {"127.0.0.1", "localhost", "::1"}
OPEN_ENDPOINTS = {"login.show", "login.enter", "static"}
LOGIN_EXTENSION = "pondel-logins"
MOST_LOGIN_BYTES = 1 << 16
WRONG_FROM_ONE = "5 per minute; 20 per hour"


def is_local(host: str) -> bool:
    """Whether an address to bind to is reached from this machine only."""
    if host == "localhost":
        return True
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False


def check_host(host: str, password: str | None) -> None:
    """PondelError when the address would be open to others without a password."""
    if not is_local(host) and not password:
        raise PondelError(
            "others could reach this address: set a password in PONDEL_PASSWORD first, "
            "or leave --host out",
            where=f"--host {host}",
        )


class Owner(UserMixin):
    """The one user there is, by the token of a login."""

    def __init__(self, token: str) -> None:
        self.id = token


class WrongTries:
    """Slows down who guesses, by address: others who guess elsewhere keep nobody out.

    Only wrong passwords count. A network of 64 bits of IPv6 is one address: one person has all of it.
    """

    def __init__(self) -> None:
        self._limiter = MovingWindowRateLimiter(MemoryStorage())
        self._limits = parse_many(WRONG_FROM_ONE)

    def may_try(self, address: str) -> bool:
        return all(self._limiter.test(item, counted_as(address)) for item in self._limits)

    def note(self, address: str) -> None:
        """One more wrong password from an address."""
        for item in self._limits:
            self._limiter.hit(item, counted_as(address))


def counted_as(address: str) -> str:
    """The address, or the network of 64 bits that it is in."""
    try:
        found = ipaddress.ip_address(address)
    except ValueError:
        return address
    if found.version == 4:
        return address
    if found.ipv4_mapped is not None:
        return str(found.ipv4_mapped)
    return str(ipaddress.ip_network((int(found) >> 64 << 64, 64)))


def secure(app: Flask, password: str | None, logins: Logins, *, behind_proxy: bool = False) -> None:
    """The login, tokens on every write, and the content policy.

    The login is asked first: nothing of a request's body is read before. Behind a proxy that speaks TLS
    the cookie goes over TLS alone.
    """
    app.extensions[LOGIN_EXTENSION] = logins if password else None
    app.jinja_env.globals["has_password"] = bool(password)
    manager = LoginManager(app)
    manager.user_loader(lambda token: Owner(token) if logins.is_live(token) else None)
    if password:
        app.before_request(ask_for_password)
    else:
        app.before_request(refuse_strange_hosts)
    Talisman(
        app,
        force_https=False,
        session_cookie_secure=behind_proxy,
        session_cookie_samesite="Strict",
        strict_transport_security=behind_proxy,
        content_security_policy=POLICY,
        referrer_policy="same-origin",
    )
    # Each write carries a token; a browser that keeps its Referer to itself is known by its Origin.
    app.config["WTF_CSRF_SSL_STRICT"] = False
    app.before_request(refuse_other_origins)
    CSRFProtect(app)
    app.register_blueprint(login_screen(password, logins))


def refuse_strange_hosts() -> None:
    """Answer only to names of this machine: SecurityError for any other, as of a rebound page."""
    try:
        name = urlsplit(f"//{request.headers.get('Host', '')}").hostname
    except ValueError:
        name = None
    if name not in LOCAL_NAMES:
        raise SecurityError("a strange host")


def refuse_other_origins():
    """Turn away a write that a page of another address sends."""
    origin = request.headers.get("Origin")
    if request.method in ("GET", "HEAD", "OPTIONS") or origin is None:
        return None
    if origin == "null" or urlsplit(origin).netloc == request.host:
        return None
    return {"message": "this page is not one of this Pondel's", "where": None}, 403


def ask_for_password():
    """Turn away who is not logged in."""
    if request.endpoint == "login.enter":
        request.max_content_length = MOST_LOGIN_BYTES
    if request.endpoint in OPEN_ENDPOINTS or current_user.is_authenticated:
        return None
    if request.method != "GET" or request.path.startswith("/sound/"):
        return {"message": "Log in first."}, 401
    return redirect(url_for("login.show"))


def login_screen(password: str | None, logins: Logins) -> Blueprint:
    """The login page, and the way out."""
    blueprint = Blueprint("login", __name__)
    tries = WrongTries()

    @blueprint.get("/login")
    def show():
        if not password:
            return redirect("/")
        return render_template("login.html", wrong="")

    @blueprint.post("/login")
    def enter():
        if not password:
            return redirect("/")
        address = request.remote_addr or ""
        if not tries.may_try(address):
            return render_template("login.html", wrong="Too many wrong tries: wait a minute."), 429
        given = request.form.get("password", "").encode(errors="replace")
        if hmac.compare_digest(given, password.encode(errors="replace")):
            login_user(Owner(logins.begin(address)))
            return redirect("/")
        tries.note(address)
        return render_template("login.html", wrong="That is not the password."), 401

    @blueprint.post("/logout")
    def leave():
        if current_user.is_authenticated:
            logins.end(current_user.id)
        logout_user()
        return redirect(url_for("login.show"))

    return blueprint


def password_print(key: bytes, password: str | None) -> str:
    """What stands for a password where logins are kept: a keyed hash of it."""
    return hmac.new(key, (password or "").encode(errors="replace"), "sha256").hexdigest()
