"""Meters: their record, their settings recorded, their battery and their link."""

from __future__ import annotations

from typing import Any

from flask import flash, render_template, request, url_for

from brumel.core import meter_settings
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.forms import FormDoor, ReasonForm, WriteForm, parse_number, text_of
from brumel.web.kit.place import blueprint
from brumel.work import kit
from brumel.work.bench import calibration_sessions
from brumel.work.desk import Refused
from brumel.work.kit.probe_record import LINK_COMMANDS, LinkValues
from brumel.work.link import sessions as link_sessions


@blueprint.get("/meters/new")
def new_meter(faults: Any = ()) -> Any:
    """The form of a new meter."""
    page = render_template("kit/meter_form.html", meter=None, links=kit.LINKS, faults=faults, given=request.form)
    return page, 422 if faults else 200


def _given() -> kit.MeterForm:
    got = request.form.get
    return kit.MeterForm(
        got("name", ""), got("serial", ""), got("link", ""), got("description", ""), got("firmware", "")
    )


@blueprint.post("/meters/new")
def add_meter() -> Any:
    """Add a meter."""
    form = WriteForm()

    def do() -> str:
        form.check()
        saved = kit.save_meter(desk(), actor(), form.write_key, _given())
        return url_for("kit.meter", meter_id=saved.id)

    return answer(do, new_meter)


@blueprint.get("/meters/<meter_id>")
def meter(meter_id: str, faults: Any = (), token: str = "") -> Any:
    """One meter: its record, probes, settings over time, and its link."""
    with desk().read() as session:
        meter = kit.meter_of(session, meter_id)
        on_it = calibration_sessions.probes_of(session, meter.id)
        page = render_template(
            "kit/meter.html",
            meter=meter,
            probes=on_it,
            links=kit.LINKS,
            faults=faults,
            given=request.form,
            token=token,
            settings_history=(history := kit.settings_history(session, meter.id)),
            not_said=meter_settings.not_said(history[0].settings) if history else (),
            spec=meter_settings.SETTINGS,
            link=link_sessions.newest(session, meter.id),
            alive=link_sessions.alive(session, meter.id, desk().clock()),
            commands=LINK_COMMANDS,
            stored=kit.stored_of(session, on_it, desk().clock()),
            storage_places={p.id: kit.places_of(p) for p in on_it},
        )
        return page, 422 if faults else 200


@blueprint.post("/meters/<meter_id>/link/<probe_id>")
def link_values(meter_id: str, probe_id: str) -> Any:
    """Which of a sensor's values are a probe's."""
    form = WriteForm()

    def do() -> str:
        form.check()
        door, given = FormDoor(), request.form
        signal = door.number("signal", "Number of the signal")
        temperature = door.number("temperature", "Number of the temperature")
        door.close()
        where = LinkValues(given.get("address", "")[:10], given.get("how", "")[:4], signal, temperature)
        kit.set_link_values(desk(), actor(), form.write_key, probe_id=probe_id, given=where)
        flash("Kept. Start the link program anew, so that it hears of it.", "note")
        return url_for("kit.meter", meter_id=meter_id)

    return answer(do, lambda faults: meter(meter_id, faults))


@blueprint.post("/meters/<meter_id>")
def save_meter(meter_id: str) -> Any:
    """Change the record of a meter."""
    form = WriteForm()

    def do() -> str:
        form.check()
        kit.save_meter(desk(), actor(), form.write_key, _given(), meter_id)
        flash("The record is changed.", "note")
        return url_for("kit.meter", meter_id=meter_id)

    return answer(do, lambda faults: meter(meter_id, faults))


@blueprint.post("/meters/<meter_id>/retire")
def retire_meter(meter_id: str) -> Any:
    """The meter is put away for good."""
    form = ReasonForm()

    def do() -> str:
        form.check()
        kit.retire_meter(desk(), actor(), form.write_key, meter_id=meter_id, reason=text_of(form.reason))
        return url_for("kit.index")

    return answer(do, lambda faults: meter(meter_id, faults))


@blueprint.post("/meters/<meter_id>/restore")
def restore_meter(meter_id: str) -> Any:
    """The meter comes back into service."""
    form = ReasonForm()

    def do() -> str:
        form.check()
        kit.restore_meter(desk(), actor(), form.write_key, meter_id=meter_id, reason=text_of(form.reason))
        return url_for("kit.meter", meter_id=meter_id)

    return answer(do, lambda faults: meter(meter_id, faults))


@blueprint.post("/meters/<meter_id>/token")
def new_token(meter_id: str) -> Any:
    """A fresh token for the link program; shown once."""
    form = WriteForm()
    try:
        form.check()
        issued = kit.new_token(desk(), actor(), form.write_key, meter_id=meter_id)
    except Refused as error:
        return meter(meter_id, (error,))
    return meter(meter_id, token=issued.token or "shown once already; make another if it was lost")


@blueprint.get("/meters/<meter_id>/settings")
def settings(meter_id: str, faults: Any = ()) -> Any:
    """Take down the meter's settings, beside those of last time."""
    with desk().read() as session:
        meter = kit.meter_of(session, meter_id)
        last = kit.last_settings(session, meter.id)
        page = render_template(
            "kit/settings.html",
            meter=meter,
            groups=[
                (group, {key: each for key, each in meter_settings.SETTINGS.items() if each.of == group})
                for group in dict.fromkeys(each.of for each in meter_settings.SETTINGS.values())
            ],
            of_the_day=meter_settings.OF_THE_DAY,
            last=last,
            faults=faults,
            given=request.form,
            settings_history=kit.settings_history(session, meter.id),
        )
        return page, 422 if faults else 200


@blueprint.post("/meters/<meter_id>/settings")
def record_settings(meter_id: str) -> Any:
    """The settings as they were seen."""
    form = ReasonForm()

    def do() -> str:
        form.check()
        seen: dict[str, Any] = {}
        for key, spec in meter_settings.SETTINGS.items():
            text = request.form.get(key, "")
            seen[key] = text if spec.choices else parse_number(spec.label, text, required=False)
        kit.record_settings(
            desk(), actor(), form.write_key, meter_id=meter_id, settings=seen, reason=text_of(form.reason)
        )
        flash("Taken down.", "note")
        return url_for("kit.meter", meter_id=meter_id)

    return answer(do, lambda faults: settings(meter_id, faults))
