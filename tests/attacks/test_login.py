"""Strangers: nothing of theirs is read, no login outlives its end, guessing is slow."""

from __future__ import annotations

import io
import re
import socket
import threading
from contextlib import contextmanager

import pytest
from conftest import sine
from web_tools import Caller, audio, jobs_of, until

from attacks.servers import Server
from pondel.core.document import Session
from pondel.jobs.turns import Superseded
from pondel.store.secret import secret_key
from pondel.web import create_app, security

PASSWORD = "lantern"


@pytest.fixture
def app(tmp_path):
    return create_app(tmp_path, password=PASSWORD, immediate=True, testing=True)


def token_of(client) -> str:
    page = client.get("/login").get_data(as_text=True)
    return re.search(r'name="csrf" content="([^"]+)"', page)[1]


def log_in(client, password=PASSWORD, address="10.0.0.1"):
    data = {"password": password, "csrf_token": token_of(client)}
    return client.post("/login", data=data, environ_base={"REMOTE_ADDR": address})


def test_cookies_are_strict_in_fact(app):
    client = app.test_client()
    log_in(client)
    cookie = client.get_cookie("pondel")
    assert cookie.same_site == "Strict" and cookie.http_only


def test_a_login_ends_when_it_is_left_even_where_its_cookie_was_copied(app):
    client, thief = app.test_client(), app.test_client()
    assert log_in(client).status_code == 302
    thief.set_cookie("pondel", client.get_cookie("pondel").value, domain="localhost")
    assert thief.get("/sessions").status_code == 200
    assert client.post("/logout", headers={"X-CSRFToken": token_of(client)}).status_code == 302
    for one in (client, thief):
        assert one.get("/sessions").status_code == 302


def test_one_login_that_ends_leaves_the_others(app):
    first, second = app.test_client(), app.test_client()
    log_in(first), log_in(second)
    first.post("/logout", headers={"X-CSRFToken": token_of(first)})
    assert second.get("/sessions").status_code == 200


def test_logins_end_when_the_password_changes_and_outlive_a_restart(tmp_path, app):
    client = app.test_client()
    log_in(client)
    cookie = client.get_cookie("pondel").value
    for password, status in ((PASSWORD, 200), ("another", 302)):
        later = create_app(tmp_path, password=password, testing=True).test_client()
        later.set_cookie("pondel", cookie, domain="localhost")
        assert later.get("/sessions").status_code == status


def test_wrong_tries_are_slowed_for_one_address_and_not_for_another(app):
    client = app.test_client()
    answers = [log_in(client, "guess").status_code for _ in range(7)]
    assert answers == [401] * 5 + [429] * 2
    assert log_in(client).status_code == 429, "the right password is not told apart while slowed"
    assert log_in(app.test_client(), address="10.0.0.2").status_code == 302


def test_guesses_from_many_addresses_keep_nobody_out(app):
    for n in range(250):
        log_in(app.test_client(), "guess", address=f"10.{n % 200}.1.{n // 200}")
    assert log_in(app.test_client(), address="10.0.0.9").status_code == 302


def test_a_network_of_ipv6_is_one_address(app):
    for n in range(5):
        assert log_in(app.test_client(), "guess", address=f"2001:db8:0:1::{n}").status_code == 401
    assert log_in(app.test_client(), address="2001:db8:0:1:ffff::1").status_code == 429
    assert log_in(app.test_client(), address="2001:db8:0:2::1").status_code == 302


def test_a_write_is_known_by_its_origin_and_needs_no_referer(tmp_path):
    app = create_app(tmp_path, password=PASSWORD, behind_proxy=True, immediate=True, testing=True)
    client, data = app.test_client(), {"password": PASSWORD}
    page = client.get("/login", base_url="https://studio.example:8443").get_data(as_text=True)
    data["csrf_token"] = re.search(r'name="csrf" content="([^"]+)"', page)[1]

    def enter(**headers: str) -> int:
        ask = {"base_url": "https://studio.example:8443", "headers": headers}
        return client.post("/login", data=data, **ask).status_code

    assert enter(Origin="https://elsewhere.example") == 403
    assert enter(Origin="https://studio.example:8443") == 302
    answer = client.get("/sessions", base_url="https://studio.example:8443")
    assert "max-age" in answer.headers["Strict-Transport-Security"]


def test_a_wrong_password_holds_no_thread(app, monkeypatch):
    monkeypatch.setattr("time.sleep", lambda _: pytest.fail("a thread was held"))
    assert log_in(app.test_client(), "guess").status_code == 401
    assert log_in(app.test_client(), "☃ é" * 50).status_code == 401


class Unread(io.RawIOBase):
    """A body that must not be read."""

    def readable(self):
        return True

    def readinto(self, _):
        pytest.fail("the body of a stranger was read")


def test_the_body_of_a_stranger_is_not_read(app):
    song = jobs_of(app).library.create(Session(name="Song"))
    for path in (f"/sessions/{song}/arrivals", f"/sessions/{song}/edit", "/sessions/import"):
        answer = app.test_client().post(
            path,
            environ_overrides={
                "wsgi.input": Unread(),
                "CONTENT_LENGTH": str(1 << 30),
                "CONTENT_TYPE": "multipart/form-data; boundary=x",
            },
        )
        assert answer.status_code == 401
    large = {"password": "x" * 200_000, "csrf_token": "x"}
    assert app.test_client().post("/login", data=large).status_code == 413


def test_the_server_does_not_even_receive_it(tmp_path):
    server = Server(tmp_path / "data", env={"PONDEL_PASSWORD": PASSWORD})
    try:
        host = server.address.removeprefix("http://")
        with raw(host) as line:
            line.sendall(head(host, 1 << 30))
            assert b"401" in line.recv(200).split(b"\r\n")[0]
        with raw(host) as line:
            line.sendall(head(host, 1 << 30, b"Cookie: pondel=made.up.cookie\r\n"))
            assert b"401" in line.recv(200).split(b"\r\n")[0]
        with raw(host) as line:
            chunked = head(host, None, b"Transfer-Encoding: chunked\r\n")
            line.sendall(chunked + b"10000\r\n" + bytes(0x10000) + b"\r\n")
            assert b"401" in line.recv(200).split(b"\r\n")[0]
        assert not [path for path in (tmp_path / "data" / "incoming").rglob("*") if path.is_file()]
        page = server.get("/login")[1].decode()
        server.token = re.search(r'name="csrf" content="([^"]+)"', page)[1]
        form = f"password={PASSWORD}&csrf_token={server.token}".encode()
        assert (
            server._ask(server._request("/login", form, "application/x-www-form-urlencoded"))[0] == 200
        )
        server.token = ""
        form = f"name=Song&csrf_token={server.token}".encode()
        server._ask(server._request("/sessions", form, "application/x-www-form-urlencoded"))
        assert server.upload("/sessions/song/arrivals", "a.wav", audio(sine(99, 2.0)))[0] == 202
    finally:
        server.stop()


@contextmanager
def raw(host: str):
    name, port = host.split(":")
    with socket.create_connection((name, int(port)), 20) as line:
        yield line


def head(host: str, length: int | None, more: bytes = b"") -> bytes:
    size = b"" if length is None else f"Content-Length: {length}\r\n".encode()
    kind = b"Content-Type: multipart/form-data; boundary=x\r\n"
    return (
        b"POST /sessions/x/arrivals HTTP/1.1\r\nHost: "
        + host.encode()
        + b"\r\n"
        + kind
        + size
        + more
        + b"\r\n"
    )


def test_a_question_whose_asker_has_gone_is_given_up(tmp_path):
    app = create_app(tmp_path, testing=True)
    caller = Caller(app.test_client())
    jobs = jobs_of(app)
    begun, left = threading.Event(), threading.Event()

    def work():
        begun.set()
        until(left.is_set)
        jobs.turns.step()
        pytest.fail("worked on for nobody")

    def ask():
        with pytest.raises(Superseded):
            jobs.turns.take("map", "page", work, left.is_set)

    asking = threading.Thread(target=ask)
    asking.start()
    assert begun.wait(10)
    left.set()
    asking.join(10)
    assert not asking.is_alive()
    assert caller.client.get("/sessions").status_code == 200


def test_the_key_that_signs_is_not_the_password(tmp_path):
    key = secret_key(tmp_path)
    assert security.password_print(key, "a") != security.password_print(key, "b")
    assert security.password_print(key, "a") != security.password_print(b"x" * 32, "a")


@pytest.mark.parametrize(
    ("host", "status"),
    [("[::1]:8750", 200), ("127.0.0.1:1", 200), ("LOCALHOST", 200), ("evil.test", 400), ("[::1", 400)],
)
def test_without_a_password_only_names_of_this_machine_are_answered(tmp_path, host, status):
    client = create_app(tmp_path, immediate=True, testing=True).test_client()
    assert client.get("/sessions", headers={"Host": host}).status_code == status
