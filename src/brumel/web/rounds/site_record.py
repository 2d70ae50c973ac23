"""Keeping clients, sites and rounds, and taking sites in and out as GeoJSON."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from typing import Any
from zoneinfo import ZoneInfo

from flask import Response, flash, render_template, request, url_for

from brumel.core import travel
from brumel.core.errors import InputError
from brumel.formats import geojson
from brumel.store.rounds import Round
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.forms import FormDoor, ReasonForm, WriteForm, optional_number, parse_number, parse_numbers, text_of
from brumel.web.practice_clock import practice_clock
from brumel.web.rounds.routes import blueprint
from brumel.work import rounds
from brumel.work.rounds import calendar, recurrence, site_record

#: What is known of a site's water and not read at each visit, by its key, with its words [mg/L].
WATER_FIGURES = {
    "alkalinity_mg_l": "Total alkalinity, as CaCO₃",
    "cyanuric_mg_l": "Cyanuric acid of a stabilised pool",
    "chloride_mg_l": "Chloride, beside a nitrate tip",
    "potassium_mg_l": "Potassium, beside an ammonium tip",
}


@blueprint.get("/sites/edit")
def edit_site(site_id: str = "", faults: Any = (), given: Mapping[str, Any] | None = None) -> Any:
    """A new site, or one to change (`?site=`)."""
    site_id = site_id or request.args.get("site", "")
    with desk().read() as session:
        site = rounds.site_of(session, site_id) if site_id else None
        page = render_template(
            "rounds/edit_site.html",
            site=site,
            kinds=site_record.KINDS,
            compensations=site_record.COMPENSATIONS,
            water_figures=WATER_FIGURES,
            faults=faults,
            given=given or _as_given(site),
            history=site_record.history(session, site.id) if site else [],
            clients=sorted({s.client for s in rounds.sites_by_client(session, retired=True)}),
        )
        return page, 422 if faults else 200


def _week() -> dict[str, str]:
    """The weekdays from the practice's first one on."""
    days, first = list(recurrence.WEEKDAYS), practice_clock().first_day
    start = days.index(first)
    return {day: recurrence.WEEKDAYS[day] for day in (*days[start:], *days[:start])}


def _as_given(site: Any) -> dict[str, Any]:
    if site is None:
        return {"zone": practice_clock().zone, "kind": "stream", "altitude_m": "", "compensation": "natural"}

    def show(v):
        return "" if v is None else f"{v:g}"

    return {
        "client": site.client,
        "name": site.name,
        "kind": site.kind,
        "zone": site.zone,
        "use": site.use,
        "altitude_m": show(site.altitude_m),
        "latitude": "" if site.latitude is None else f"{site.latitude}",
        "longitude": "" if site.longitude is None else f"{site.longitude}",
        "depths": "; ".join(f"{d:g}" for d in site.depths),
        "note": site.note,
        "ranges": site_record.write_lines(site.ranges, limits=False),
        "limits": site_record.write_lines(site.limits, limits=True),
        "compensation": site.water.get("compensation", "natural"),
        "settling": site.water.get("settling", ""),
        **{k: show(site.water.get(k)) for k in ("usual_salinity", "tds_factor", "coefficient_percent", *WATER_FIGURES)},
    }


@blueprint.post("/sites/edit")
def save_site() -> Any:
    """Keep a site; terms that differ become a new version."""
    form = ReasonForm()
    site_id = request.form.get("site", "")

    def do() -> str:
        form.check()
        depths = parse_numbers("depth_m", request.form.get("depths", "")[:200])
        place = site_record.Place(
            request.form.get("client", ""),
            request.form.get("name", ""),
            request.form.get("kind", ""),
            request.form.get("zone", ""),
            optional_number("altitude_m", "Altitude"),
            optional_number("latitude", "Latitude"),
            optional_number("longitude", "Longitude"),
            depths,
            request.form.get("note", ""),
        )
        water = {
            "compensation": request.form.get("compensation"),
            "settling": request.form.get("settling"),
            "usual_salinity": optional_number("usual_salinity", "Usual salinity"),
            "tds_factor": optional_number("tds_factor", "TDS factor"),
            **{key: optional_number(key, words) for key, words in WATER_FIGURES.items()},
            "coefficient_percent": optional_number("coefficient_percent", "Temperature coefficient"),
        }
        terms = site_record.terms_of(
            request.form.get("use", ""),
            request.form.get("ranges", "")[:8000],
            request.form.get("limits", "")[:8000],
            water,
        )
        saved = site_record.save_site(
            desk(),
            actor(),
            form.write_key,
            place=place,
            terms=terms,
            reason=text_of(form.reason),
            site_id=site_id,
            version=form.turn_number if site_id else None,
        )
        return url_for("rounds.site", site_id=saved.id)

    return answer(
        do, lambda faults: edit_site(site_id, faults, request.form), url_for("rounds.edit_site", site=site_id)
    )


@blueprint.post("/sites/<site_id>/retire")
def retire_site(site_id: str) -> Any:
    """A site is read no more."""
    form = ReasonForm()

    def do() -> str:
        form.check()
        site_record.retire_site(desk(), actor(), form.write_key, site_id=site_id, reason=text_of(form.reason))
        return url_for("rounds.index")

    return answer(do, lambda faults: edit_site(site_id, faults))


@blueprint.post("/sites/<site_id>/restore")
def restore_site(site_id: str) -> Any:
    """A site is read again."""
    form = ReasonForm()

    def do() -> str:
        form.check()
        site_record.restore_site(desk(), actor(), form.write_key, site_id=site_id, reason=text_of(form.reason))
        return url_for("rounds.site", site_id=site_id)

    return answer(do, lambda faults: edit_site(site_id, faults))


@blueprint.get("/plans/edit")
def edit_round(round_id: str = "", faults: Any = (), given: Any = None) -> Any:
    """A new round, or one to change (`?round=`)."""
    round_id = round_id or request.args.get("round", "")
    with desk().read() as session:
        planned_round = calendar.round_of(session, round_id) if round_id else None
        stops = [str(s.id) for s in planned_round.sites] if planned_round else []
        zone = practice_clock().zone
        page = render_template(
            "rounds/edit_round.html",
            round=planned_round,
            sites=rounds.sites_by_client(session),
            stops=stops,
            recurs=_recurs(planned_round, given),
            every=recurrence.EVERY,
            weekdays=_week(),
            nths=recurrence.NTH,
            faults=faults,
            given=given or {},
            today=desk().clock().astimezone(ZoneInfo(zone)).date(),
            zone=zone,
        )
        return page, 422 if faults else 200


def _recurs(planned_round: Round | None, given: Any) -> dict[str, Any]:
    """How a round recurs, as the form's fields: as it was sent, else as it stands."""
    fresh = {"every": "weeks", "interval": "1", "weekdays": []}
    if given:
        return {**fresh, **given, "weekdays": given.getlist("weekday")}
    if planned_round is None:
        return fresh
    parts = recurrence.in_parts(planned_round.rule)
    if parts is None:
        return {"every": "kept", "rule": planned_round.rule, "weekdays": []}
    return {
        "every": parts.every,
        "interval": parts.interval,
        "weekdays": parts.weekdays if parts.every == "weeks" else (),
        "month_day": "last" if parts.month_day == recurrence.LAST_DAY else parts.month_day or planned_round.starts.day,
        "nth": str(parts.nth),
        "nth_weekday": parts.weekdays[0] if parts.every == "nth" else "",
        "until": parts.until or "",
    }


def _rule_sent(round_id: str, starts: date) -> str:
    """The rule that was chosen; "as it stands" leaves the round's own, which no form makes."""
    if request.form.get("every") == "kept" and round_id:
        with desk().read() as session:
            return calendar.round_of(session, round_id).rule
    weekdays = tuple(request.form.getlist("weekday")[:7])
    return recurrence.read_parts(request.form, weekdays, starts).rule()


@blueprint.post("/plans/edit")
def save_round() -> Any:
    """Keep a round."""
    form = WriteForm()
    round_id = request.form.get("round", "")

    def do() -> str:
        form.check()
        try:
            starts = date.fromisoformat(request.form.get("starts", ""))
        except ValueError:
            raise InputError("starts", "The first day is missing, or is not a day.") from None
        ordered: list[tuple[float, str]] = []
        for key, text in request.form.items():
            if key.startswith("order_") and text.strip():
                ordered.append((parse_number("order", text) or 0.0, key.removeprefix("order_")))
        saved = calendar.save_round(
            desk(),
            actor(),
            form.write_key,
            round_id=round_id,
            retired=request.form.get("retired") == "yes",
            new=calendar.NewRound(
                request.form.get("name", ""),
                [site for _, site in sorted(ordered)],
                _rule_sent(round_id, starts),
                starts,
                request.form.get("leave_at", ""),
                request.form.get("zone", ""),
                request.form.get("note", ""),
                _pace_sent(),
            ),
        )
        return url_for("rounds.round", round_id=saved.id)

    return answer(do, lambda faults: edit_round(round_id, faults, request.form))


def _pace_sent() -> travel.Pace:
    """How the round is gone, as the form has it; what it does not ask is usual. Raises InputErrors."""
    door, sent = FormDoor(), dict[str, float]()
    for name, words in (
        ("site_min", "Minutes at a site"),
        ("speed_kmh", "Speed between sites"),
        ("way_min", "Minutes there and home"),
        ("between_min", "Minutes between all sites"),
    ):
        value = door.number(name, words)
        if value is not None:
            sent[name] = value
        elif name in request.form and name != "between_min" and not any(f.field == name for f in door.faults):
            door.faults.append(InputError(name, f"{words} are missing." if "Min" in words else f"{words} is missing."))
    door.close()
    return travel.Pace(**sent)


@blueprint.get("/sites.geojson")
def sites_out() -> Any:
    """Every site in use, as GeoJSON."""
    with desk().read() as session:
        text = geojson.write(site_record.features(rounds.sites_by_client(session)))
    response = Response(text, mimetype="application/geo+json")
    response.headers["Content-Disposition"] = 'attachment; filename="brumel-sites.geojson"'
    return response


@blueprint.post("/sites.geojson")
def sites_in() -> Any:
    """Sites from a GeoJSON file, all or none."""
    form = WriteForm()

    def do() -> str:
        form.check()
        file = request.files.get("file")
        if file is None or not file.filename:
            raise InputError("file", "Choose a GeoJSON file.")
        taken_in = site_record.take_in(
            desk(), actor(), form.write_key, features=geojson.read(file.stream.read(geojson.MOST_BYTES + 1))
        )
        flash(f"{taken_in.made} sites made, {taken_in.changed} changed.", "note")
        return url_for("rounds.index")

    return answer(do, lambda faults: edit_site("", faults))
