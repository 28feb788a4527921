"""A session that is made behind the pages: the demo, while it is played."""

from __future__ import annotations

import threading

import pytest
from click.testing import CliRunner
from web_tools import Caller, jobs_of, until

from pondel import demo
from pondel.cli import main
from pondel.core.document import Session
from pondel.core.errors import DiskFull
from pondel.demo import session as demo_session
from pondel.jobs.making import Making
from pondel.store.library import Library
from pondel.web import create_app, serve


class Played:
    """A session of three recordings, each of which is played when somebody lets it be."""

    def __init__(self, jobs) -> None:
        self.jobs, self.go_on = jobs, threading.Semaphore(0)

    def __call__(self, step) -> str:
        for name in ("Drum", "Tuba", "Voice"):
            step(f"playing {name}")
            assert self.go_on.acquire(timeout=30)
        return self.jobs.library.create(Session(name="Parade"))

    def begin(self, said: list[str] | None = None) -> None:
        self.jobs.maker.begin("Parade", 3, self, [].append if said is None else said.append)


@pytest.fixture
def app(tmp_path):
    app = create_app(tmp_path, testing=True)
    jobs_of(app).start()
    yield app
    jobs_of(app).stop()


def told_as(jobs, what: str) -> Making:
    until(lambda: jobs.maker.told() and jobs.maker.told().what == what)
    return jobs.maker.told()


def test_the_first_page_tells_how_far_it_is_and_opens_it_once_it_is_made(app):
    jobs, client = jobs_of(app), app.test_client()
    older = jobs.library.create(Session(name="Older"))
    played, said = Played(jobs), []
    played.begin(said)
    told_as(jobs, "playing Drum")
    page = client.get("/").text
    assert "Parade is being played" in page and 'http-equiv="refresh"' in page
    assert 'value="0"' in page and "playing Drum" in page
    played.go_on.release()
    told = told_as(jobs, "playing Tuba")
    assert (told.name, told.done, told.total, told.message) == ("Parade", 1, 3, "")
    listed = client.get("/sessions").text
    assert "is being played" in listed and "Older" in listed
    assert client.get(f"/sessions/{older}/intake").status_code == 200
    played.go_on.release(2)
    until(lambda: jobs.maker.told() is None)
    made = next(card.id for card in jobs.library.sessions() if card.name == "Parade")
    assert client.get("/").location == f"/sessions/{made}/intake"
    assert "is being played" not in client.get("/sessions").text
    assert said == ["playing Drum", "playing Tuba", "playing Voice"]


def test_a_list_with_nothing_but_what_is_being_made_asks_for_no_files(app):
    played = Played(jobs_of(app))
    played.begin()
    told_as(jobs_of(app), "playing Drum")
    assert "There is no session yet" not in app.test_client().get("/sessions").text
    played.go_on.release(3)


@pytest.mark.parametrize(
    "error, words",
    [(DiskFull(), "disk is full"), (ZeroDivisionError("1/0"), "the log has the details")],
)
def test_why_it_could_not_be_made_is_told_and_the_rest_goes_on(app, error, words):
    jobs, client = jobs_of(app), app.test_client()

    def fails(step) -> str:
        step("playing Drum")
        raise error

    jobs.maker.begin("Parade", 3, fails, [].append)
    until(lambda: jobs.maker.told().message)
    page = client.get("/").text
    assert (
        words in page
        and "Parade could not be played" in page
        and "refresh" not in page
        and 'href="/sessions"' in page
    )
    assert "could not be played" in client.get("/sessions").text
    assert Caller(client).post("/sessions", data={"name": "Mine"}).location.endswith("/mine/intake")


def test_a_server_that_stops_makes_nothing_by_halves(tmp_path):
    jobs = jobs_of(create_app(tmp_path, testing=True))
    jobs.start()
    played = Played(jobs)
    played.begin()
    told = told_as(jobs, "playing Drum")
    stopping = threading.Thread(target=jobs.stop)
    stopping.start()
    until(lambda: told.stopped.is_set())
    played.go_on.release()
    stopping.join(30)
    assert not stopping.is_alive() and jobs.maker.told() is None
    assert jobs.library.sessions() == []


def test_the_demo_is_played_behind_its_server_once(tmp_path, monkeypatch):
    """What the command gives the server to begin with, done by a desk whose demo is short."""
    begun = []
    monkeypatch.setattr(serve, "serve", lambda *where, begin: begun.append(begin))
    command = ["demo", "--data", str(tmp_path)]
    assert CliRunner().invoke(main, command, catch_exceptions=False).exit_code == 0

    def make(desk, step, *, measured):
        assert not measured
        step("playing Tuba")
        return desk.library.create(Session(name=demo.NAME))

    monkeypatch.setattr(demo_session, "make_demo", make)
    assert CliRunner().invoke(main, command, catch_exceptions=False).exit_code == 0
    app = create_app(tmp_path, testing=True)
    jobs = jobs_of(app)
    begun[1](jobs)
    until(lambda: jobs.maker.told() is None)
    (card,) = jobs.library.sessions()
    assert card.name == demo.NAME
    assert CliRunner().invoke(main, command, catch_exceptions=False).exit_code == 0
    begun[2](jobs)
    assert jobs.maker.told() is None


def test_a_demo_that_was_set_aside_is_brought_back(tmp_path):
    library = Library(tmp_path)
    assert demo_session.found_demo(library) is None
    session_id = library.create(Session(name=demo.NAME))
    library.remove(session_id)
    assert demo_session.found_demo(library) == session_id
    assert [card.id for card in library.sessions()] == [session_id]
