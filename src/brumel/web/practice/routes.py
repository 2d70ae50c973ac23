"""Practice: scenarios to choose from, the finding, the debrief, the tour."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, flash, render_template, request, url_for

from brumel.core.errors import InputError
from brumel.methods.scenarios import vocabulary
from brumel.store import practice_world
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.drawings import debrief as debrief_drawing
from brumel.web.forms import WriteForm
from brumel.web.root import WORLDS, root
from brumel.web.sign_in_limit import BY_PERSON, limiter, session_or_address
from brumel.work import practice
from brumel.work.desk import Refused
from brumel.work.practice import skills

blueprint = Blueprint("practice", __name__, template_folder="templates", url_prefix="/practice")

#: Where a learner's world is mounted (brumel.web.practice.world).


@blueprint.context_processor
def _ways() -> dict[str, str]:
    return {"table_url": f"{root()}{WORLDS}/table"}


@blueprint.get("")
def index(faults: Any = ()) -> Any:
    """What there is to practise, what was given, and what lies on the table now."""
    with desk().read() as session:
        results = skills.results_of(session, actor().id)
        passed = {r.attempt.scenario for r in results if r.passed}
        tried = {r.attempt.scenario for r in results}
        tour = skills.tour_of(session, actor())
        page = render_template(
            "practice/index.html",
            scenarios=list(practice.scenarios(session).values()),
            passed=passed,
            tried=tried,
            grades=skills.GRADES,
            tasks=skills.TASKS,
            open=skills.open_attempt(session, actor().id),
            is_laid=practice_world.is_there(session, actor().id),
            assigned=[a for a in skills.assigned_to(session, actor().id) if a.done is None],
            tour=tour,
            next_of_tour=next((scenario.key for scenario, done in tour if not done), ""),
            given=request.form,
            faults=faults,
        )
        return page, 422 if faults else 200


@blueprint.post("")
@limiter.limit(BY_PERSON, key_func=session_or_address, methods=["POST"])
def begin() -> Any:
    """Begin a scenario: a fresh world is made for it, and whatever lay on the table is gone."""
    form = WriteForm()

    def do() -> str:
        form.check()
        key, source = request.form.get("scenario", ""), request.form.get("source", "")
        pace = request.form.get("pace", "")
        if pace not in {str(p) for p in practice.PACES}:
            raise InputError("pace", f"Time runs {', '.join(map(str, practice.PACES))} times as fast.", value=pace[:10])
        with desk().read() as session:
            links = practice.scenario(session, key).meter.links
        begun = practice.begin(
            desk(),
            actor(),
            form.write_key,
            scenario_key=key,
            source=source if len(links) > 1 else links[0],  # where there is one way only its row says so
            hints=request.form.get("hints") == "yes",
        )
        practice.lay_world(desk(), actor(), begun.id, int(pace))
        return f"{root()}{WORLDS}/table"

    return answer(do, index)


@blueprint.get("/attempts/<attempt_id>")
def attempt(attempt_id: str, faults: Any = ()) -> Any:
    """The finding that is to be given, or the debrief once it was."""
    with desk().read() as session:
        row = practice.attempt_of(session, actor(), attempt_id)
        result = practice.result_of(session, row.id)
        common = {
            "attempt": row,
            "told": row.told,
            "known": vocabulary(),
            "grades": skills.GRADES,
            "tasks": skills.TASKS,
            "sure": practice.HOW_SURE,
        }
        if result is None:
            page = render_template(
                "practice/finding.html", given=request.form, faults=faults, mine=row.person_id == actor().id, **common
            )
        else:
            page = render_template(
                "practice/debrief.html",
                result=result,
                drawing=debrief_drawing.draw(result.debrief),
                numbered=debrief_drawing.numbered_moments(result.debrief["moments"]),
                next_of_tour=_next_of_tour(session) if row.told.get("tour") else None,
                **common,
            )
        return page, 422 if faults else 200


def _next_of_tour(session: Any) -> Any:
    return next((scenario for scenario, done in skills.tour_of(session, actor()) if not done), None)


@blueprint.post("/attempts/<attempt_id>")
def give_finding(attempt_id: str) -> Any:
    """Give the finding; the truth is shown after it, and never before."""
    form = WriteForm()

    def do() -> str:
        form.check()
        got = request.form.get
        finding = practice.Finding(got("cause", ""), got("sure", ""), got("next", ""), got("words", ""))
        with desk().read() as session:
            row = practice.attempt_of(session, actor(), attempt_id)
            over = practice.result_of(session, row.id) is not None
            if row.person_id != actor().id:
                raise Refused("The finding is for whoever is at the table.")
            if not over and not practice_world.is_there(session, actor().id):
                raise Refused("Your table is cleared away; begin the scenario anew to give a finding.")
        if not over:
            world = practice.desk_of_world(
                practice_world.sessions_in(desk().sessions.kw["bind"], actor().id), desk().clock
            )
            told = practice.judged(world, row, finding)
            practice.give_finding(desk(), actor(), form.write_key, attempt_id=attempt_id, finding=finding, told=told)
        return url_for("practice.attempt", attempt_id=attempt_id)

    return answer(do, lambda faults: attempt(attempt_id, faults))


@blueprint.post("/leave")
def leave() -> Any:
    """Clear the table away: the world is dropped, what was reached stays."""
    form = WriteForm()

    def do() -> str:
        form.check()
        with desk().sessions.begin() as session:
            practice_world.drop(session, actor().id)
        flash("The table is cleared away. What you reached is kept.", "note")
        return url_for("practice.index")

    return answer(do, index)


@blueprint.post("/tour")
def tour() -> Any:
    """Begin the tour, or do without it."""
    form = WriteForm()

    def do() -> str:
        form.check()
        how = request.form.get("how", "")
        skills.tour(desk(), actor(), form.write_key, how=how)
        return url_for("practice.index", _anchor="tour") if how == "begun" else url_for("today.show")

    return answer(do, index)
