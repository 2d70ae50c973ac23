"""A sheet that was written by hand, entered later: at its true time, on the sheet of its day."""

from __future__ import annotations

from typing import Any
from zoneinfo import ZoneInfo

from flask import flash, render_template, request, url_for
from sqlalchemy.orm import Session

from brumel.core.errors import InputError
from brumel.core.quantity_table import MEASURED
from brumel.core.units import to_canonical
from brumel.store.tables import Probe, Site
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.forms import FormDoor, WriteForm, answers_sent, local_time
from brumel.web.records.readings import opened_words
from brumel.web.rounds.routes import Faults, blueprint
from brumel.work import kit, rounds
from brumel.work.quantities import names as quantity_names
from brumel.work.quantities.book import quantity_of
from brumel.work.questions import Unanswered
from brumel.work.records import late
from brumel.work.rounds import offline


@blueprint.get("/sites/<site_id>/paper")
def paper(site_id: str, faults: Faults = ()) -> Any:
    """A form as the field form is: one depth, everything that was read there."""
    with desk().read() as session:
        site = rounds.site_of(session, site_id)
        probes = _probes(session, site)
        page = render_template(
            "rounds/paper.html",
            site=site,
            probes=[(probe, _ways(probe)) for probe in probes],
            given=request.values,
            faults=[fault for fault in faults if not isinstance(fault, Unanswered)],
            questions=[q for fault in faults if isinstance(fault, Unanswered) for q in fault.questions],
        )
        return page, 422 if faults else 200


def _probes(session: Session, site: Site) -> list[Probe]:
    """What the site may have been read with: every probe of a quantity that is usual there, thermometers first."""
    wanted = {"temperature", *site.ranges}
    found = [p for p in kit.probes_at_hand(session) if p.quantity in wanted]
    return sorted(found, key=lambda p: (quantity_names.ORDER[p.quantity], p.name))


def _ways(probe: Probe) -> list[tuple[str, str]]:
    first = MEASURED[probe.quantity].displayed
    entries = quantity_of(probe.quantity).entries
    return sorted(((key, way.label) for key, way in entries.items()), key=lambda way: way[0] != first)


@blueprint.post("/sites/<site_id>/paper")
def enter_paper(site_id: str) -> Any:
    """Take the sheet in, whole or not at all."""
    form = WriteForm()

    def do() -> str:
        form.check()
        with desk().read() as session:
            site = rounds.site_of(session, site_id)
            probes, zone = _probes(session, site), ZoneInfo(site.zone)
        one = _set_sent(probes, zone)
        with desk().read() as session:
            outing = offline.outing_of(session, site_id, one.at)
        visit = offline.QueuedVisit(outing, site_id, [one], request.form.get("note", "")[:2000], both=True)
        entered = late.enter_paper(desk(), actor(), form.write_key, visit)
        flash(f"{entered.readings} readings entered from paper." + opened_words(entered.opened), "note")
        if request.form.get("more"):
            return url_for("rounds.paper", site_id=site_id, at=request.form.get("at", ""))
        return url_for("rounds.visit", visit_id=entered.visit)

    return answer(do, lambda faults: paper(site_id, faults))


def _set_sent(probes: list[Probe], zone: ZoneInfo) -> offline.ReadSet:
    """What the form holds, with every fault at once. Raises InputErrors."""
    door = FormDoor()
    rows: list[rounds.Typed] = []
    for probe in probes:
        value, unit = door.measured(f"value_{probe.id}", f"{probe.name} showed")
        if value is not None:
            rows.append(rounds.Typed(str(probe.id), request.form.get(f"unit_{probe.id}", ""), value, unit))
    at_c, _ = door.measured("temperature_c", "Water temperature", "temperature")
    depth_m, _ = door.measured("depth_m", "Depth", "length")
    names = {str(p.id): p.quantity for p in probes}
    if at_c is None:
        shown = next((r for r in rows if names[r.probe_id] == "temperature"), None)
        at_c = to_canonical("temperature_c", shown.value, _degrees(shown), "temperature") if shown else None
    if at_c is None and not any(f.field == "temperature_c" for f in door.faults):
        door.faults.append(InputError("temperature_c", "Water temperature is missing. Every signal is read at it."))
    at = None
    try:
        at = local_time("at", "Read at", zone)
        if at is None:
            door.faults.append(InputError("at", "When it was read is missing."))
    except InputError as error:
        door.faults.append(error)
    if not rows and not door.faults:
        door.faults.append(InputError("value", "Type what at least one display showed."))
    door.close()
    assert at is not None
    return offline.ReadSet(at, rows, at_c or 0.0, depth_m, answers=answers_sent(of_set="0"))


def _degrees(row: rounds.Typed) -> str:
    return row.unit or {"f": "°F"}.get(row.signal, "°C")
