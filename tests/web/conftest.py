"""The application on a database of the test's own, and clients who are signed in."""

import re

import pytest

from brumel.config import Config
from brumel.web import create_app
from brumel.work.demo.load import PASSWORD
from tests.conftest import database_copy


@pytest.fixture
def app(database_url, clock):
    app = create_app(Config(database_url, "t" * 40, demo=True, insecure_cookies=True), clock=clock)
    app.testing = True
    return app


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
        app = create_app(Config(url, "t" * 40, demo=True, insecure_cookies=True))
        app.testing = True
        yield sign_in(app, "ansa")
