"""The application on a database of the test's own, and clients who are signed in."""

import re

import pytest

from brumel.config import Config
from brumel.web import create_app
from brumel.work.demo.load import PASSWORD
from tests.conftest import as_app, database_copy


def made_app(url, **given):
    """An application; made once more where CPython loses count while another thread of the run compiles (gh-106905)."""
    config = Config(as_app(url), "t" * 40, demo=True, insecure_cookies=True)
    try:
        app = create_app(config, **given)
    except SystemError:
        app = create_app(config, **given)
    app.testing = True
    return app


@pytest.fixture(scope="session")
def app_of_place(place):
    made = made_app(place.url, clock=place.clock)
    place.other_engines.append(made.extensions["desk"].sessions.kw["bind"])
    return made


@pytest.fixture
def app(app_of_place, place, database_url, clock):
    """The worker's application, on a database of this test's own; what it had in mind of another is forgotten."""
    app_of_place.extensions["practice clock"].forget()
    app_of_place.extensions.pop("history is whole", None)
    yield app_of_place
    place.let_go()


def csrf(client, path="/sign-in"):
    return re.search(r'name="csrf_token"[^>]*value="([^"]+)"', client.get(path).text).group(1)


def sign_in(app, username):
    client = app.test_client()
    answer = client.post("/sign-in", data={"csrf_token": csrf(client), "username": username, "password": PASSWORD})
    assert answer.status_code == 302
    return client


@pytest.fixture
def client(app):
    return sign_in(app, "ansa")


@pytest.fixture(scope="module")
def reader(server, template):
    """A signed-in client for pages that only read; one database for the whole module."""
    with database_copy(server, template) as url:
        yield sign_in(made_app(url), "ansa")
