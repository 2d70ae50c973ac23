"""A form that was sent before, and a machine that has no room: said in a sentence, and nothing typed is lost."""

import re
import uuid

import pytest
from sqlalchemy import func, select
from sqlalchemy.exc import TimeoutError as PoolTimeout

from brumel.store.tables import Meter
from brumel.work.desk import Desk
from tests.web.conftest import csrf, sign_in


def test_the_same_form_with_other_content_comes_back_with_what_was_typed_and_a_new_key(app):
    desk, client = app.extensions["desk"], sign_in(app, "ilka")
    key = str(uuid.uuid4())
    form = {
        "csrf_token": csrf(client, "/kit/meters/new"),
        "key": key,
        "name": "Boat set",
        "serial": "B-1",
        "link": "typed",
    }
    first = client.post("/kit/meters/new", data=form)
    assert first.status_code == 302
    assert client.post("/kit/meters/new", data=form).headers["Location"] == first.headers["Location"]
    other = client.post("/kit/meters/new", data=form | {"name": "Van set"})
    assert other.status_code == 409
    assert "sent before with other content" in other.text
    assert 'value="Van set"' in other.text
    fresh = re.search(r'name="key" value="([0-9a-f-]{36})"', other.text).group(1)
    assert fresh != key
    assert client.post("/kit/meters/new", data=form | {"name": "Van set", "key": fresh}).status_code == 302
    taken = client.post("/kit/meters/new", data=form | {"key": str(uuid.uuid4())})
    assert (taken.status_code, "There is a meter “Boat set” already" in taken.text) == (422, True)
    with desk.read() as session:
        assert session.scalar(select(func.count()).where(Meter.name.in_(["Boat set", "Van set"]))) == 2


@pytest.mark.parametrize(("path", "kind"), [("/kit", "text/html"), ("/api/v1/sites", "application/problem+json")])
def test_without_room_for_another_the_answer_is_to_come_again(app, monkeypatch, path, kind):
    client = sign_in(app, "ansa")

    def full(_):
        raise PoolTimeout("QueuePool limit of size 10 overflow 20 reached")

    monkeypatch.setattr(Desk, "read", full)
    answer = client.get(path, headers={"Authorization": "Bearer x"} if "api" in path else {})
    assert (answer.status_code, answer.headers["Retry-After"], answer.mimetype) == (503, "5", kind)
    assert "QueuePool" not in answer.text
