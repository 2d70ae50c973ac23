"""Skills: what each person tried and reached, what they were given, who may work alone; and the lead's own scenarios."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

import yaml
from flask import flash, make_response, render_template, request, url_for

from brumel.core.quantity_table import MEASURED
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.dates import dates_of_document
from brumel.web.forms import ReasonForm, WriteForm, local_time, text_of
from brumel.web.practice.routes import blueprint
from brumel.web.practice_clock import practice_zone
from brumel.work import practice
from brumel.work.desk import Refused
from brumel.work.practice import skills, writing
from brumel.work.records import letterhead

#: How long a signing stands where the lead says nothing else.
USUAL_SIGNING = timedelta(days=365)


@blueprint.get("/skills")
def skills_page(faults: Any = ()) -> Any:
    """Everybody's skills for the lead; for others, their own."""
    with desk().read() as session:
        now = desk().clock()
        people = skills.people_who_practise(session) if actor().role == "lead" else [actor()]
        page = render_template(
            "practice/skills.html",
            people=[(p, skills.skills_of(session, p, now)) for p in people],
            rule=skills.rule(session),
            asks=skills.ASKS,
            tasks=skills.TASKS,
            grades=skills.GRADES,
            faults=faults,
        )
        return page, 422 if faults else 200


@blueprint.get("/skills/<person_id>")
def person(person_id: str, faults: Any = ()) -> Any:
    """One person: skills, what was given, every attempt, and what the lead signed."""
    with desk().read() as session:
        now = desk().clock()
        who = skills.learner_of(session, actor(), person_id)
        page = render_template(
            "practice/person.html",
            person=who,
            skills=skills.skills_of(session, who, now),
            assigned=skills.assigned_to(session, who.id),
            results=skills.results_of(session, who.id),
            scenarios=practice.scenarios(session),
            tasks=skills.TASKS,
            grades=skills.GRADES,
            measured=MEASURED,
            until=(now + USUAL_SIGNING).astimezone(practice_zone()).date(),
            given=request.form,
            faults=faults,
        )
        return page, 422 if faults else 200


@blueprint.post("/skills/<person_id>/assign")
def assign(person_id: str) -> Any:
    """Give somebody a scenario to do."""
    form = WriteForm()

    def do() -> str:
        form.check()
        got = request.form.get
        skills.assign(
            desk(), actor(), form.write_key, person_id=person_id, scenario=got("scenario", ""), words=got("words", "")
        )
        return url_for("practice.person", person_id=person_id)

    return answer(do, lambda faults: person(person_id, faults))


@blueprint.post("/skills/<person_id>/sign")
def sign_skill(person_id: str) -> Any:
    """Sign that somebody may do a task alone."""
    form = WriteForm()

    def do() -> str:
        form.check()
        got = request.form.get
        quantity, _, task = got("skill", "").partition(":")
        until = local_time("until", "Until", practice_zone())
        signed = skills.sign(
            desk(),
            actor(),
            form.write_key,
            person_id=person_id,
            quantity=quantity,
            task=task,
            until=_end_of(until) if until else desk().clock() + USUAL_SIGNING,
            words=got("words", ""),
            name=got("name", ""),
        )
        flash("Signed. The certificate stands beside the skill.", "note")
        return url_for("practice.person", person_id=person_id, _anchor=signed.id)

    return answer(do, lambda faults: person(person_id, faults))


def _end_of(day: datetime) -> datetime:
    return day.replace(hour=23, minute=59, second=59)


@blueprint.post("/signings/<signing_id>/end")
def take_back_skill(signing_id: str) -> Any:
    """Take a signing back, with its reason."""
    form = ReasonForm()
    with desk().read() as session:
        whose = str(skills.signing_of(session, actor(), signing_id).person_id)

    def do() -> str:
        form.check()
        skills.take_back(desk(), actor(), form.write_key, signing_id=signing_id, reason=text_of(form.reason))
        return url_for("practice.person", person_id=whose)

    return answer(do, lambda faults: person(whose, faults))


@blueprint.post("/rule")
def set_rule() -> Any:
    """Whether Bench asks for a signed skill."""
    form = WriteForm()

    def do() -> str:
        form.check()
        skills.set_rule(desk(), actor(), form.write_key, asks=request.form.get("asks", "?"))
        return url_for("practice.skills_page")

    return answer(do, skills_page)


@blueprint.get("/signings/<signing_id>.pdf")
def certificate(signing_id: str) -> Any:
    """That somebody may work alone, on paper, as the lead signed it."""
    from brumel.web.records.certificates import inline_picture, press

    with desk().read() as session:
        signing = skills.signing_of(session, actor(), signing_id)
        if skills.end_of(session, signing) is not None:
            raise Refused("This signing was taken back; there is no certificate of it.")
        headed = letterhead.practice(session)
        reached = next(
            s
            for s in skills.skills_of(session, signing.person, signing.at)
            if (s.quantity, s.task) == (signing.quantity, signing.task)
        )
        with dates_of_document(headed.dates):
            page = render_template(
                "practice/certificate.html",
                signing=signing,
                practice=headed,
                picture=inline_picture("png", headed.picture),
                words=f"{skills.TASKS[signing.task]} {MEASURED[signing.quantity].words}",
                reached=reached,
                grades=skills.GRADES,
            )
    response = make_response(press.print(page))
    response.mimetype = "application/pdf"
    response.headers["Content-Disposition"] = f'inline; filename="skill-{signing.quantity}-{signing.task}.pdf"'
    return response


# -- the lead's own scenarios


@blueprint.get("/scenarios")
def scenarios() -> Any:
    """Every scenario, shipped or the lead's, to be looked at and written anew."""
    with desk().read() as session:
        return render_template(
            "practice/scenarios.html",
            scenarios=list(practice.scenarios(session).values()),
            own=writing.own_keys(session),
            grades=skills.GRADES,
            tasks=skills.TASKS,
        )


@blueprint.get("/scenarios/<key>")
def scenario(key: str, faults: Any = ()) -> Any:
    """A scenario as its text; saving makes the next version."""
    with desk().read() as session:
        told = practice.scenario(session, key)
        versions = writing.versions(session, key)
        text = request.form.get("text") or yaml.safe_dump(
            told.model_dump(mode="json", exclude_defaults=True),
            allow_unicode=True,
            sort_keys=False,
            width=110,
            default_flow_style=None,
        )
        page = render_template(
            "practice/scenario.html",
            scenario=told,
            text=text,
            versions=versions,
            is_shipped=writing.is_shipped(key),
            faults=faults,
        )
        return page, 422 if faults else 200


@blueprint.post("/scenarios/<key>")
def save_scenario(key: str) -> Any:
    """The next version of a scenario; under another key it is a new one."""
    form = WriteForm()

    def do() -> str:
        form.check()
        saved = writing.save_scenario(
            desk(),
            actor(),
            form.write_key,
            text=request.form.get("text", ""),
            version=form.turn_number,
            in_use=request.form.get("in_use") != "no",
        )
        flash("Saved as the newest version.", "note")
        if request.form.get("in_use") == "no":
            return url_for("practice.scenarios")
        return url_for("practice.scenario", key=saved.id)

    return answer(do, lambda faults: scenario(key, faults))
