"""Old addresses: each leads to a page there is, and a form sent to one keeps its method and what was typed."""

import pytest
from werkzeug.exceptions import NotFound
from werkzeug.routing import RequestRedirect

from brumel.web.moved import new_path
from tests.web.conftest import sign_in

KEY = "00000000-0000-4000-8000-000000000001"

OLD = {
    "/look": ("/theme", "POST"),
    f"/bench/meters/{KEY}/sitting": (f"/bench/meters/{KEY}/session", "GET"),
    f"/bench/sittings/{KEY}": (f"/bench/sessions/{KEY}", "GET"),
    f"/kit/probes/{KEY}/upkeep": (f"/kit/probes/{KEY}/maintenance", "POST"),
    f"/records/closings/{KEY}/rule": (f"/records/closings/{KEY}/decide", "POST"),
    f"/records/rulings/{KEY}/reopen": (f"/records/decisions/{KEY}/reopen", "POST"),
    f"/records/discoveries/lot/{KEY}": (f"/records/affected/lot/{KEY}", "GET"),
    f"/records/calibrations/{KEY}/supersede": (f"/records/calibrations/{KEY}/withdraw", "POST"),
    f"/rounds/rounds/{KEY}": (f"/rounds/plans/{KEY}", "GET"),
    f"/rounds/sites/{KEY}/logs": (f"/rounds/sites/{KEY}/series", "POST"),
    f"/rounds/logs/{KEY}/service": (f"/rounds/series/{KEY}/check", "POST"),
    f"/rounds/logs/{KEY}/rule": (f"/rounds/series/{KEY}/decide", "POST"),
    f"/rounds/logs/{KEY}": (f"/rounds/series/{KEY}", "GET"),
}


@pytest.mark.parametrize("old", OLD)
def test_an_old_address_leads_to_a_route_there_is(app, old):
    new, method = OLD[old]
    assert new_path(old) == new
    try:
        app.url_map.bind("localhost").match(new, method=method)
    except (NotFound, RequestRedirect) as error:
        pytest.fail(f"{new}: {error}")


def test_a_redirect_keeps_method_and_question_and_goes_nowhere_else(app):
    client = sign_in(app, "ilka")
    got = client.get(f"/rounds/logs/{KEY}?from=2026-05-01")
    assert (got.status_code, got.location) == (308, f"/rounds/series/{KEY}?from=2026-05-01")
    assert client.post("/look", data={"theme": "night"}).status_code == 308
    # What is not an old address stays a page that is not there, and no host of a stranger's gets in.
    assert client.get("/bench/sittings//example.org").location in (None, "/bench/sessions//example.org")
    assert client.get("/nowhere").status_code == 404
