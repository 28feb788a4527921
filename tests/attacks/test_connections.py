"""Connections: however many there are, and however slow, the server answers who is at work."""

from __future__ import annotations

import http.client
import signal
import socket
import time
from contextlib import ExitStack, suppress
from types import SimpleNamespace
from urllib.parse import urlsplit

import pytest
from conftest import hits, sine
from web_tools import audio

from attacks.servers import Server
from pondel.core.errors import Busy
from pondel.jobs.desk import Desk
from pondel.jobs.downloads import MOST_AT_ONCE, Downloads
from pondel.jobs.sessions import import_files
from pondel.store.library import Library
from pondel.web import connections
from pondel.web.connections import HEADERS_S, IDLE_S, MOST_CONNECTIONS, SMALL_BODY_S


@pytest.fixture(scope="module")
def server(tmp_path_factory):
    found = Server(tmp_path_factory.mktemp("connections") / "data", env={"PONDEL_PASSWORD": "lantern"})
    yield found
    found.stop()


def connect(server, held: ExitStack, sent: bytes = b"") -> socket.socket:
    address = urlsplit(server.address)
    found = socket.create_connection((address.hostname, address.port), timeout=20)
    held.callback(found.close)
    if sent:
        found.sendall(sent)
    return found


def test_a_thousand_connections_of_strangers_leave_the_server_and_who_is_at_work(server):
    address = urlsplit(server.address)
    with ExitStack() as held:
        kept = http.client.HTTPConnection(address.hostname, address.port, timeout=20)
        held.callback(kept.close)
        kept.request("GET", "/login")
        assert kept.getresponse().read()
        slow = [
            connect(server, held, b"GET /login HTTP/1.1\r\nHost: 127.0.0.1\r\nX: ") for _ in range(100)
        ]
        for _ in range(1100):
            connect(server, held)
        kept.request("GET", "/login")
        answer = kept.getresponse()
        assert answer.status == 200 and answer.read()
        assert server.get("/login")[0] == 200
        for one in slow:
            one.settimeout(HEADERS_S + 10)
            with suppress(ConnectionResetError):
                assert one.recv(100) == b""
    assert server.process.poll() is None


def test_more_than_there_is_room_for_is_refused_in_words(monkeypatch):
    accepted, closed = [], []
    ours, theirs = socket.socketpair()
    working = SimpleNamespace(requests=[1], request=None, total_outbufs_len=0, has_asked=True)
    busy = SimpleNamespace(
        active_channels={n: working for n in range(MOST_CONNECTIONS)},
        handle_accept=lambda: accepted.append(1),
        accept=lambda: (ours, ("127.0.0.1", 1)),
    )
    monkeypatch.setattr(connections, "gated_channel", lambda app: None)
    connections.bound(busy, None)
    busy.handle_accept()
    assert b"503" in (said := theirs.recv(1000)) and said.endswith(b"try again in a moment.\n")
    assert accepted == []
    idle = SimpleNamespace(
        requests=[], request=None, total_outbufs_len=0, has_asked=True, last_activity=1.0
    )
    never = SimpleNamespace(**{**vars(idle), "has_asked": False, "last_activity": 5.0})
    for one in (idle, never):
        one.handle_close = lambda one=one: closed.append(one)
    busy.active_channels.update({"idle": idle, "never": never})
    busy.handle_accept()
    assert closed == [never] and accepted == [1]


@pytest.mark.parametrize(
    ("request_", "has_asked", "age_s", "is_closed"),
    [
        (None, False, HEADERS_S + 1, True),
        (None, True, HEADERS_S + 1, False),
        (None, True, IDLE_S + 1, True),
        ({"headers_finished": False}, True, HEADERS_S + 1, True),
        ({"headers_finished": True, "content_length": 100}, True, SMALL_BODY_S + 1, True),
        ({"headers_finished": True, "content_length": 1 << 30}, True, SMALL_BODY_S + 1, False),
        ({"headers_finished": True, "content_length": 1 << 30}, True, IDLE_S + 1, True),
    ],
)
def test_what_is_slow_or_idle_is_closed_after_its_time(
    monkeypatch, request_, has_asked, age_s, is_closed
):
    now = time.time()
    asked = None if request_ is None else SimpleNamespace(chunked=False, **request_)
    channel = SimpleNamespace(
        requests=[],
        request=asked,
        total_outbufs_len=0,
        has_asked=has_asked,
        last_activity=now - age_s,
        began=now - age_s,
        will_close=False,
    )
    server = SimpleNamespace(active_channels={1: channel}, handle_accept=None)
    monkeypatch.setattr(connections, "gated_channel", lambda app: None)
    connections.bound(server, None)
    server.maintenance(now)
    assert channel.will_close == is_closed
    channel.total_outbufs_len, channel.will_close = 1, False
    server.maintenance(now)
    assert channel.will_close == (age_s > IDLE_S), "an answer that nobody reads is not kept for good"
    channel.requests, channel.will_close = [1], False
    server.maintenance(now)
    assert not channel.will_close


def test_paused_downloads_take_few_places_and_give_them_back():
    downloads = Downloads()
    taken = [downloads.streamed(iter([b"x"])) for _ in range(MOST_AT_ONCE)]
    with pytest.raises(Busy, match="try again"):
        downloads.streamed(iter([b"x"]))
    taken[0].close()
    taken[0].close()
    assert list(downloads.streamed(iter([b"x", b"y"]))) == [b"x", b"y"]


@pytest.fixture
def busy_server(tmp_path):
    """A server with a session of four parts, a minute each, of which nothing is analysed yet."""
    stems = tmp_path / "stems"
    stems.mkdir()
    for name, hz in {"kick": 60, "tuba": 70, "horn": 300, "voice": 440}.items():
        sound = hits(60.0) if name == "kick" else sine(hz, 60.0, -14)
        (stems / f"{name}.wav").write_bytes(audio(sound))
    library = Library(tmp_path / "data")
    session_id = import_files(library, "Song", sorted(stems.iterdir()), refused=pytest.fail)
    desk = Desk(library)
    for file in desk.recordings.missing(library.head(session_id).document):
        desk.recordings.take(file)
    library.close()
    found = Server(tmp_path / "data")
    yield found
    if found.process.poll() is None:
        found.kill()


def test_ctrl_c_ends_within_ten_seconds_with_forty_requests_waiting(busy_server):
    with ExitStack() as held:
        for n in range(40):
            path = f"/sessions/song/lanes/ridges?where=loop&start_s={n / 10}&end_s=50&page=p{n}"
            connect(busy_server, held, f"GET {path} HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n".encode())
        assert busy_server.get("/sessions")[0] == 200
        began = time.monotonic()
        busy_server.process.send_signal(signal.SIGINT)
        busy_server.process.wait(30)
        assert time.monotonic() - began < 10
