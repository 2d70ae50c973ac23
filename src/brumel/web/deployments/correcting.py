"""A channel's correction: what the visits say interval by interval, what is made of it, and the lead's own marks."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from flask import flash, render_template, request, url_for

from brumel.core.deployed.correction import COURSES
from brumel.core.drift import DriftCriteria
from brumel.core.errors import InputError, InputErrors
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.deployments.looking import look
from brumel.web.deployments.place import Faults, blueprint
from brumel.web.drawings import deployment as drawings
from brumel.web.forms import ReasonForm, local_time, text_of
from brumel.work.desk import NotFound
from brumel.work.rounds import deployments as dep
from brumel.work.rounds.deployments import channels, series


@blueprint.get("/<deployment_id>/correct/<quantity>")
def correct(deployment_id: str, quantity: str, faults: Faults = ()) -> Any:
    """A channel's record before and after, each interval with what its visit says, and the lead's decision."""
    with desk().read() as session:
        d = dep.deployment_of(session, deployment_id)
        whole = dep.whole_of(session, d)
        channel = dep.channel_of(d, quantity)
        criteria = channels.criteria(quantity)
        if criteria is None:
            raise NotFound("This channel has no checks of its own.")
        of = series.read(session, whole, channel)
        drafts = dep.draft(session, whole, channel, of)
        signed = whole.corrections[channel.id]
        given = dict(request.form)
        recipe, tried = dep.newest_recipe(whole, channel), False
        if drafts and (given or recipe is None):
            tried = True
            try:
                recipe = _tried(whole, drafts, given, ZoneInfo(d.site.zone))
            except InputError as error:  # what cannot be is said, and what stands is drawn
                faults = faults or error.faults
        told = dep.apply(session, whole, channel, of, recipe)
        page = render_template(
            "deployments/correct.html",
            d=d,
            zone=d.site.zone,
            whole=whole,
            channel=channel,
            drafts=drafts,
            chosen=_chosen(drafts, given, signed),
            courses=COURSES,
            criteria=criteria,
            limits=dep.limits_of(criteria),
            compensate=dep.can_compensate(whole) if quantity == "oxygen" else {},
            signed=signed,
            seen=dep.seen_as(whole),
            summary=dep.summary(told),
            tried=tried,
            backed=dep.backing(session, whole, channel),
            drawing=drawings.before_and_after(told, whole, channel, d.site.zone) if of.times_us.size else None,
            sizes=_sizes(told, criteria),
            given=given or _as_signed(signed, len(drafts), ZoneInfo(d.site.zone)),
            typed=bool(given),
            faults=faults,
        )
        return page, 422 if faults else 200


def _as_signed(signed: Any, count: int, zone: ZoneInfo) -> dict[str, str]:
    """The moments that were stated, so that deciding again does not lose them."""
    kept = signed[0].body["intervals"] if signed else []
    if len(kept) != count:
        return {}
    return {
        f"from_{n}": datetime.fromtimestamp(i["from_s"], zone).strftime("%Y-%m-%dT%H:%M")
        for n, i in enumerate(kept)
        if i["from_s"] is not None
    }


def _tried(whole: dep.Whole, drafts: Any, given: dict[str, str], zone: ZoneInfo) -> dep.Recipe:
    """What the form, or what follows from the checks, would do. Raises every fault of the form at once."""
    chosen = _sent(len(drafts), zone) if given else dep.suggested(drafts)
    salinity, pressure = (given.get(name) == "yes" for name in ("salinity", "pressure"))
    return dep.recipe_of(whole, drafts, chosen, salinity=salinity, pressure=pressure)


def _chosen(drafts: Any, given: dict[str, str], signed: Any) -> list[str]:
    """What stands chosen for each interval: as typed, as signed last where the intervals are the same, as suggested."""
    kept = [i["course"] for i in signed[0].body["intervals"]] if signed else []
    usual = kept if len(kept) == len(drafts) else [d.suggested for d in drafts]
    found = [given.get(f"course_{n}", course) for n, course in enumerate(usual)]
    return [d.suggested if course in d.barred else course for d, course in zip(drafts, found, strict=True)]


def _sizes(told: dep.Reported, criteria: DriftCriteria) -> dict[str, float]:
    """The greatest that each step takes off [unit]."""
    there = abs(told.fouling), abs(told.drift), abs(told.compensation)
    names = ("fouling", "drift", "compensation")
    return {n: float(v.max()) for n, v in zip(names, there, strict=True) if v.size and v.max() > 0}


def _sent(count: int, zone: ZoneInfo) -> list[dep.Chosen]:
    """What was chosen for each interval. Raises every fault at once."""
    chosen, faults = [], list[InputError]()
    for number in range(min(count, 200)):
        at: datetime | None = None
        try:
            at = local_time(f"from_{number}", "Wrong from", zone)
        except InputError as error:
            faults += error.faults
        chosen.append(dep.Chosen(request.form.get(f"course_{number}", ""), at))
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    return chosen


@blueprint.post("/<deployment_id>/correct/<quantity>")
def decide(deployment_id: str, quantity: str) -> Any:
    """Show what was chosen, or sign it."""
    if request.form.get("act") == "show":
        return correct(deployment_id, quantity)
    form = ReasonForm()

    def do() -> str:
        form.check()
        with desk().read() as session:
            zone = ZoneInfo(dep.deployment_of(session, deployment_id).site.zone)
        count = sum(name.startswith("course_") for name in request.form)
        dep.sign(
            desk(),
            actor(),
            form.write_key,
            deployment_id=deployment_id,
            quantity=quantity,
            decision=dep.Decision(
                chosen=_sent(count, zone),
                reason=text_of(form.reason),
                name=request.form.get("name", "")[:120],
                version=form.turn_number,
                visits=request.form.get("seen", "")[:40],
                salinity=request.form.get("salinity") == "yes",
                pressure=request.form.get("pressure") == "yes",
            ),
        )
        flash("Signed. What is reported follows it from now on.", "note")
        return url_for("deployments.correct", deployment_id=deployment_id, quantity=quantity)

    def again(faults: Faults) -> Any:
        return correct(deployment_id, quantity, faults)

    return answer(do, again, url_for("deployments.correct", deployment_id=deployment_id, quantity=quantity))


@blueprint.post("/<deployment_id>/marks")
def mark(deployment_id: str) -> Any:
    """The lead's own word on a stretch."""
    form = ReasonForm()

    def do() -> str:
        form.check()
        with desk().read() as session:
            zone = ZoneInfo(dep.deployment_of(session, deployment_id).site.zone)
        ends, faults = {}, list[InputError]()
        for name, words in (("starts", "From"), ("ends", "Until")):
            try:
                ends[name] = local_time(name, words, zone)
                if ends[name] is None:
                    faults.append(
                        InputError(name, f"{words}: this is missing. Mark the stretch on the drawing, or type it.")
                    )
            except InputError as error:
                faults += error.faults
        flag = request.form.get("flag", "")
        if flag not in ("1", "3", "4"):
            faults.append(InputError("flag", "Say what it is: good after all, suspect, or bad."))
        if faults:
            raise faults[0] if len(faults) == 1 else InputErrors(faults)
        dep.mark(
            desk(),
            actor(),
            form.write_key,
            deployment_id=deployment_id,
            quantity=request.form.get("channel", ""),
            starts=ends["starts"],  # type: ignore[arg-type]
            ends=ends["ends"],  # type: ignore[arg-type]
            flag=int(flag),
            words=text_of(form.reason),
        )
        flash("Marked.", "note")
        return url_for("deployments.look", deployment_id=deployment_id)

    return answer(do, lambda faults: look(deployment_id, faults))


@blueprint.post("/marks/<mark_id>/off")
def unmark(mark_id: str) -> Any:
    """Take a mark off again."""
    form = ReasonForm()
    deployment = request.form.get("deployment", "")

    def do() -> str:
        form.check()
        made = dep.unmark(desk(), actor(), form.write_key, mark_id=mark_id, reason=text_of(form.reason))
        return url_for("deployments.look", deployment_id=made.id)

    return answer(
        do,
        lambda faults: look(deployment, faults),
        url_for("deployments.look", deployment_id=deployment) if deployment else "",
    )
