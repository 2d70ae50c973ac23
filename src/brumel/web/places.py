"""Every place of the application, put on it."""

from __future__ import annotations

from flask import Flask

from brumel.web.api import deployments as _deployments  # noqa: F401 - its operations stand on the API's blueprint
from brumel.web.api import routes as api
from brumel.web.auth import routes as auth
from brumel.web.bench import calibration_session, closing, on_the_way, routes, run  # noqa: F401 - their routes stand on Bench's blueprint
from brumel.web.bench import place as bench
from brumel.web.deployments import correcting, files, looking, visits  # noqa: F401 - on Deployments' blueprint
from brumel.web.deployments import routes as deployments
from brumel.web.documents import routes as documents
from brumel.web.documents import sharing  # noqa: F401 - its routes stand on Documents' blueprint
from brumel.web.glossary import routes as glossary
from brumel.web.imports import routes as imports
from brumel.web.jobs import routes as jobs
from brumel.web.kit import routes as kit
from brumel.web.link import routes as link
from brumel.web.people import routes as people
from brumel.web.practice import routes as practice
from brumel.web.practice import skills as _  # noqa: F401 - its routes stand on Practice's blueprint
from brumel.web.records import readings, review  # noqa: F401 - its routes stand on Records' blueprint
from brumel.web.records import routes as records
from brumel.web.rounds import cups, logger, offline, outing, paper, printing, sheet, site_record  # noqa: F401 - on Rounds' blueprint
from brumel.web.rounds import routes as rounds
from brumel.web.today import routes as today
from brumel.web.watching import routes as watching
from brumel.web.worksheet import routes as worksheet


def register(app: Flask) -> None:
    """Put all of them on an application."""
    for place in (
        auth,
        today,
        bench,
        rounds,
        deployments,
        kit,
        records,
        imports,
        documents,
        jobs,
        worksheet,
        practice,
        people,
        link,
        api,
        glossary,
        watching,
    ):
        app.register_blueprint(place.blueprint)
    for by_token in (link, api):  # they carry a token, never a cookie
        app.extensions["csrf"].exempt(by_token.blueprint)
