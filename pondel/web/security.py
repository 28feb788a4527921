"""Only who belongs: local names or a password, tokens on writes, and a strict content policy."""

from __future__ import annotations

import hmac
import ipaddress
import secrets
import time
from pathlib import Path

from flask import Blueprint, Flask, redirect, render_template, request, url_for
from flask_login import LoginManager, UserMixin, current_user, login_user, logout_user
from flask_talisman import Talisman
from flask_wtf import CSRFProtect

from pondel.core.errors import PondelError

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
LOCAL_NAMES = ["127.0.0.1", "localhost", "[::1]"]
OPEN_ENDPOINTS = {"login.show", "login.enter", "static"}
WRONG_PASSWORD_PAUSE_S = 0.5


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


def secret_key(data_dir: Path) -> bytes:
    """The key that signs cookies, made once for each data folder."""
    path = data_dir / "secret.key"
    if not path.exists():
        path.touch(mode=0o600)
        path.write_bytes(secrets.token_bytes(32))
    return path.read_bytes()


class Owner(UserMixin):
    """The one who knows the password."""

    id = "owner"


def secure(app: Flask, password: str | None) -> None:
    """Content policy, tokens on every write, and the login."""
    Talisman(
        app,
        force_https=False,
        session_cookie_secure=False,
        strict_transport_security=False,
        content_security_policy=POLICY,
        referrer_policy="same-origin",
    )
    CSRFProtect(app)
    manager = LoginManager(app)
    manager.user_loader(lambda user_id: Owner() if user_id == Owner.id else None)
    app.register_blueprint(login_screen(password))
    app.jinja_env.globals["has_password"] = bool(password)
    if not password:
        app.config["TRUSTED_HOSTS"] = LOCAL_NAMES
        return

    @app.before_request
    def ask_for_password():
        if current_user.is_authenticated or request.endpoint in OPEN_ENDPOINTS:
            return None
        if request.method != "GET" or request.path.startswith("/sound/"):
            return {"message": "Log in first."}, 401
        return redirect(url_for("login.show"))


def login_screen(password: str | None) -> Blueprint:
    """The login page, and the way out."""
    blueprint = Blueprint("login", __name__)

    @blueprint.get("/login")
    def show():
        if not password:
            return redirect("/")
        return render_template("login.html", wrong=False)

    @blueprint.post("/login")
    def enter():
        given = request.form.get("password", "")
        if password and hmac.compare_digest(given.encode(), password.encode()):
            login_user(Owner())
            return redirect("/")
        time.sleep(WRONG_PASSWORD_PAUSE_S)
        return render_template("login.html", wrong=True), 401

    @blueprint.post("/logout")
    def leave():
        logout_user()
        return redirect(url_for("login.show"))

    return blueprint
