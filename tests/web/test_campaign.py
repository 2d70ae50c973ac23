"""A part of the campaign that ships (`./brumel campaign`), and that it would see what it looks for."""

from flask import request
from tools.campaign import Campaign

from brumel.web import access
from tests.web.conftest import made_app

#: How much of it runs here, and that it does not hang; the whole (`./brumel campaign`) is as long as one likes.
REQUESTS, LONGEST_S = 1_000, 120.0


def test_a_campaign_finds_no_error_of_ours(app):
    campaign = Campaign(app, seed=20)
    campaign.run(LONGEST_S, REQUESTS)
    assert not campaign.findings, "\n".join(str(finding) for finding in campaign.findings)
    assert len(campaign.endpoints) > 50, "it went nowhere"
    assert campaign.statuses[302] > 30, "no form was ever filled in as it was meant"


def test_a_campaign_sees_what_it_looks_for(database_url, clock, monkeypatch):
    app = made_app(database_url, clock=clock)
    token = "{{ csrf_token() }}"

    def planted():
        from flask import render_template_string

        if request.method == "POST":
            return f"page {int(request.form['n']) if request.form['n'].isdigit() else 0}"
        hidden = f'<input type="hidden" name="csrf_token" value="{token}">'
        return render_template_string(f'<form method="post" action="/planted"><input name="n">{hidden}</form>')

    app.add_url_rule("/planted", "planted", planted, methods=["GET", "POST"])
    monkeypatch.setitem(access.ROLES, "planted", access.STAFF)
    campaign = Campaign(app, seed=3)
    campaign._known = ["/planted"]
    monkeypatch.setattr(campaign, "_know", lambda links: None)  # it stays there
    campaign.run(60.0, 1500)
    assert "ValueError" in campaign.findings[0].error  # "²".isdigit(), and is no number
    assert "/planted" in campaign.findings[0].path
