"""The pages of long work."""

from __future__ import annotations

import io
from typing import Any

from flask import Blueprint, abort, render_template, request, send_file, url_for

from brumel.store.jobs import Job
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.forms import WriteForm
from brumel.web.jobs.kinds import KINDS
from brumel.work import jobs

blueprint = Blueprint("jobs", __name__, template_folder="templates", url_prefix="/jobs")


@blueprint.get("")
def index(faults: Any = ()) -> Any:
    """The person's own jobs, newest first."""
    with desk().read() as session:
        page = render_template("jobs/index.html", jobs=jobs.mine(session, actor()), faults=faults)
        return page, 422 if faults else 200


@blueprint.post("/of/<kind>")
def ask(kind: str) -> Any:
    """Ask for a job of a kind."""
    asked_for = KINDS.get(kind) or abort(404)
    form = WriteForm()

    def do() -> str:
        form.check()
        asked = {name: value for name in asked_for.arguments if (value := request.form.get(name, "").strip()[:60])}
        asked_for.check(asked)
        made = jobs.ask(desk(), actor(), form.write_key, kind=kind, title=asked_for.title, asked=asked)
        return url_for("jobs.job", job_id=made.id)

    return answer(do, index)


@blueprint.get("/<job_id>")
def job(job_id: str, faults: Any = ()) -> Any:
    """How far one job has come."""
    with desk().read() as session:
        page = render_template("jobs/job.html", job=jobs.job(session, actor(), job_id), faults=faults, kept=jobs.KEPT)
        return page, 422 if faults else 200


@blueprint.get("/<job_id>/now")
def now(job_id: str) -> Any:
    """The same for the page's script."""
    with desk().read() as session:
        return _standing(jobs.job(session, actor(), job_id))


def _standing(job: Job) -> dict[str, Any]:
    return {"state": job.state, "done": job.done, "of": job.of}


@blueprint.post("/<job_id>/cancel")
def cancel(job_id: str) -> Any:
    """Stop it."""
    return _change(jobs.cancel, job_id)


@blueprint.post("/<job_id>/retry")
def retry(job_id: str) -> Any:
    """Try what failed or was stopped once more."""
    return _change(jobs.retry, job_id)


def _change(use_case: Any, job_id: str) -> Any:
    form = WriteForm()

    def do() -> None:
        form.check()
        use_case(desk(), actor(), form.write_key, job_id=job_id)

    return answer(do, lambda faults: job(job_id, faults), url_for("jobs.job", job_id=job_id))


@blueprint.get("/<job_id>/file")
def file(job_id: str) -> Any:
    """What it made."""
    with desk().read() as session:
        made = jobs.file_of(session, actor(), job_id)
        return send_file(io.BytesIO(made.body), made.kind, as_attachment=True, download_name=made.name)
