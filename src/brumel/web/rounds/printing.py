"""A round on paper: the plan with packing list and sites on one sheet, and the form for those who write by hand."""

from __future__ import annotations

from typing import Any
from zoneinfo import ZoneInfo

from flask import Response, render_template

from brumel.formats.pdf import Press
from brumel.store.tables import Site
from brumel.web.access import desk
from brumel.web.filters import as_read, in_unit
from brumel.web.records.certificates import FONTS, STATIC
from brumel.web.rounds.outing import asked_leave
from brumel.web.rounds.routes import blueprint, units
from brumel.web.units import scale
from brumel.work import kit
from brumel.work.quantities import names as quantity_names
from brumel.work.rounds import calendar, outings, packing
from brumel.work.rounds import plan as day_plan

press = Press(FONTS, (STATIC / "css/print_base.css", STATIC / "css/field_print.css"), STATIC / "css/print_drawing.css")

#: Rows of a site without depths: the reading, and its repeat.
ONCE_AND_AGAIN = ("Reading", "Repeat")


@blueprint.get("/plans/<round_id>/plan.pdf")
def plan_on_paper(round_id: str) -> Any:
    """What to do before leaving, what to pack, and the sites in their order, on one sheet."""
    with desk().read() as session:
        now = desk().clock()
        planned_round = calendar.round_of(session, round_id)
        today = calendar.today_of(planned_round, now)
        day = calendar.next_day(planned_round, today) or today
        asked, wrong = asked_leave(planned_round, now)
        if wrong:
            raise wrong[0]
        leave = asked or calendar.leaving(planned_round, day)
        carried = outings.choice(session, planned_round, now)
        lots = kit.lots_on_shelf(session, now)
        known = day_plan.AlreadyKnown(carried, lots=lots)
        html = render_template(
            "rounds/print_plan.html",
            round=planned_round,
            day=leave.date(),
            plan=day_plan.plan_day(session, planned_round, now, leave_at=leave, known=known),
            packing=packing.packing(session, planned_round, now, carried, on_shelf=lots),
            zone=ZoneInfo(planned_round.zone),
        )
    return _pdf(press.print_on_one_sheet(html), f"brumel-plan-{leave:%Y%m%d}.pdf")


@blueprint.get("/plans/<round_id>/field-form.pdf")
def field_form(round_id: str) -> Any:
    """A form to write on by hand: each site with its depths and quantities, what is usual there, and the closing checks."""
    with desk().read() as session:
        planned_round = calendar.round_of(session, round_id)
        carried = outings.choice(session, planned_round, desk().clock()).best(desk().clock())
        probes = {c.quantity: c.probe.name for c in carried}
        html = render_template(
            "rounds/print_form.html",
            round=planned_round,
            sites=[_site(site, probes) for site in planned_round.sites],
            probes=list(probes.values()),
        )
    return _pdf(press.print(html), "brumel-field-form.pdf")


def _site(site: Site, probes: dict[str, str]) -> dict[str, Any]:
    """A site's table: a column for each quantity that is read there, a row for each depth."""
    kept_in = units()
    columns = []
    for quantity, name in probes.items():
        usual = site.ranges.get(quantity, {}).get("usual")
        if quantity in site.ranges or quantity == "temperature":
            unit = scale(kept_in[quantity]).unit
            span = f"{as_read(usual[0], quantity)} to {as_read(usual[1], quantity)} {unit}".strip() if usual else ""
            columns.append({"words": quantity_names.title(quantity), "probe": name, "usual": span})
    rows = [in_unit(depth, "m") for depth in site.depths] or ONCE_AND_AGAIN
    return {"site": site, "columns": columns, "rows": rows}


def _pdf(body: bytes, name: str) -> Response:
    response = Response(body, mimetype="application/pdf")
    response.headers["Content-Disposition"] = f'inline; filename="{name}"'
    return response
