"""Health, readiness and figures, by addresses that programs ask."""

from __future__ import annotations

import hmac
from typing import Any

from flask import Blueprint, Response, abort, current_app, request
from sqlalchemy import func, select, text
from sqlalchemy.exc import SQLAlchemyError

from brumel.store.jobs import Job
from brumel.store.migrate import newest_version
from brumel.web.access import desk
from brumel.web.watching import figures

blueprint = Blueprint("watching", __name__)


@blueprint.get("/healthz")
def alive() -> Any:
    """The process answers; nothing else is asked."""
    return {"alive": True}


@blueprint.get("/readyz")
def ready() -> Any:
    """It can serve: the database answers, and its tables are those of this version."""
    try:
        with desk().read() as session:
            version = session.scalar(text("select version_num from alembic_version"))
    except SQLAlchemyError:
        return {"ready": False, "why": "the database does not answer"}, 503
    if version != newest_version():
        return {"ready": False, "why": "the database's tables are not those of this version"}, 503
    return {"ready": True, "version": current_app.config["VERSION"]}


@blueprint.get("/metrics")
def metrics() -> Any:
    """Figures in the Prometheus text format, for who shows BRUMEL_METRICS_TOKEN; without one set there is no such page."""
    wanted = current_app.config["METRICS_TOKEN"]
    kind, _, token = request.headers.get("Authorization", "").partition(" ")
    if not wanted or kind != "Bearer" or not hmac.compare_digest(token.strip().encode(), wanted.encode()):
        abort(404)
    with desk().read() as session:
        jobs = {row[0]: row[1] for row in session.execute(select(Job.state, func.count()).group_by(Job.state))}
    content, kind = figures.text({state: jobs.get(state, 0) for state in ("waiting", "running", "failed")})
    return Response(content, content_type=kind)
