"""Without a signal: a round's sheets, box and sites on one page the browser keeps, and the queue it sends later."""

from __future__ import annotations

import uuid
from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict
from datetime import datetime
from functools import cache
from typing import Annotated, Any

from flask import (
    Response,
    current_app,
    jsonify,
    make_response,
    redirect,
    render_template,
    request,
    send_from_directory,
    url_for,
)
from pydantic import Base64Bytes, BaseModel, ConfigDict, Field, ValidationError, model_validator

from brumel import __version__
from brumel.core import sense, slips
from brumel.core.errors import InputError
from brumel.core.oxygen import saturation_mg_l, station_pressure_hpa
from brumel.core.quantity_table import MEASURED
from brumel.store.tables import MeterSettings, Probe, Site
from brumel.store.typed_json import RunConditions
from brumel.web.access import actor, desk
from brumel.web.reader import in_words
from brumel.web.root import root, this_path
from brumel.web.rounds.routes import blueprint, units
from brumel.work import kit, rounds
from brumel.work.bench.points import TYPED_C
from brumel.work.bench.without_signal import GRID_C
from brumel.work.desk import MovedOn, NotFound, Refused, object_id
from brumel.work.quantities import names as quantity_names
from brumel.work.quantities.base import RunContext
from brumel.work.quantities.book import quantity_of
from brumel.work.quantities.oxygen import set_to
from brumel.work.questions import Unanswered
from brumel.work.records import late
from brumel.work.rounds import offline, outings, packing
from brumel.work.rounds.sheet.entry import DEPTH_M
from brumel.work.rounds.sheet.plausibility import bands, should_be
from brumel.work.rounds.sites import Past

#: what the browser keeps beside the page itself
KEPT = (
    "css/ink.css",
    "css/book.css",
    "css/drawn.css",
    "css/field.css",
    "vendor/bootstrap.css",
    "vendor/idb.js",
    "js/field.js",
    "js/field/judging.js",
    "js/field/draft.js",
    "js/field/photos.js",
    "js/field/queue.js",
    "js/field/page.js",
    "js/cups.js",
    "js/cups/rules.js",
    "js/kept.js",
    "js/root.js",
    "js/questions.js",
    "js/keys.js",
    "js/session.js",
    "img/mark.svg",
)


@blueprint.get("/sw.js")
def worker() -> Any:
    """The service worker, from where its scope is Rounds."""
    return send_from_directory(current_app.static_folder or "", "js/sw.js", mimetype="text/javascript")


@blueprint.get("/brumel.webmanifest")
def manifest() -> Any:
    """What a phone needs to put Brumel on its home screen; it opens at the outing that runs."""

    def icon(size: int) -> dict[str, str]:
        return {
            "src": url_for("static", filename=f"img/icon-{size}.png"),
            "sizes": f"{size}x{size}",
            "type": "image/png",
            "purpose": "any maskable",
        }

    body = {
        "name": "Brumel",
        "short_name": "Brumel",
        "description": "Bench partner and field book",
        "id": f"{root()}/",
        "scope": f"{root()}/",
        "start_url": url_for("rounds.running"),
        "display": "standalone",
        "background_color": "#f5f1e5",
        "theme_color": "#f5f1e5",
        "icons": [icon(192), icon(512)],
    }
    response = jsonify(body)
    response.mimetype = "application/manifest+json"
    return response


@blueprint.get("/running")
def running() -> Any:
    """Where the home screen leads: the field page of the outing that runs, else the rounds."""
    with desk().read() as session:
        outing = outings.running_of(actor(), outings.of_today(session, desk().clock()))
        goes = url_for("rounds.field", outing_id=outing.id) if outing else url_for("rounds.index")
    return redirect(goes)


@blueprint.get("/outings/<outing_id>/field")
def field(outing_id: str) -> Any:
    """Everything of a round that is needed out of reach, on one page."""
    with desk().read() as session:
        outing = outings.outing(session, outing_id)
        now = desk().clock()
        carried = outings.choice(session, outing.round, now)
        best = carried.best(now)
        pasts = rounds.pasts(session, outing.round.sites)
        settings = kit.settings_of(session, [c.probe.meter_id for c in best])
        sites = [
            {
                "id": str(s.id),
                "name": s.name,
                "note": s.note,
                "depths": s.depths,
                "limits": s.limits,
                "bands": _bands(s, pasts[s.id], [c.quantity for c in best], now),
                "expected": _expected(s, pasts[s.id], [c.quantity for c in best], now),
                "before": _before(pasts[s.id], [c.quantity for c in best]),
                "ways": {c.quantity: _ways(c.quantity, s.water.get("tds_factor")) for c in best},
                "oxygen": oxygen_tables(s, [c.probe for c in best if c.quantity == "oxygen"], settings),
                "last": _last(pasts[s.id], sorted(s.ranges)),
            }
            for s in outing.round.sites
        ]
        probes = [
            {
                "id": str(c.probe.id),
                "name": c.probe.name,
                "quantity": c.quantity,
                "words": quantity_names.title(c.quantity),
                "trust": c.trust.words,
                "valid": c.trust.valid,
                "entries": _entries(c, settings.get(c.probe.meter_id)),
            }
            for c in best
        ]
        body = {
            "outing": str(outing.id),
            "sites": sites,
            "probes": probes,
            "send": url_for("rounds.send", outing_id=outing.id),
            "send_run": url_for("rounds.send_run", outing_id=outing.id),
            "bounds": {"temperature_c": TYPED_C, "depth_m": DEPTH_M},
            "together": together(),
            "keep": [url_for("rounds.cups", outing_id=outing.id), *(url_for("static", filename=name) for name in KEPT)],
            "page": this_path(),
            "me": str(actor().id),
            "me_name": actor().name,
        }
        page = render_template(
            "rounds/field.html",
            outing=outing,
            packing=packing.packing(session, outing.round, now, carried),
            body=body,
            version=__version__,
            me_name=actor().name,
            units=units(),
        )
    response = make_response(page)
    response.headers["X-Brumel-User"] = str(actor().id)  # whose page it is, for the worker that keeps it
    return response


#: What a display shows in these ways is the reported quantity but for a factor and an offset; the others are worked out
#: on the server alone.
AS_REPORTED = {
    "c": (1.0, 0.0),
    "f": (5 / 9, -160 / 9),
    "ph": (1.0, 0.0),
    "us_cm_ref": (1.0, 0.0),
    "ms_cm_ref": (1000.0, 0.0),
    "mg_l": (1.0, 0.0),
    "mg_l_n": (1.0, 0.0),
}


def _last(pasts: Mapping[float | None, Past], quantities: Sequence[str]) -> dict[str, float]:
    """The newest believable value of each quantity, at whatever depth it was read."""
    newest = {
        q: max((p[q][0] for p in pasts.values() if p.get(q)), key=lambda v: v[1], default=None) for q in quantities
    }
    return {q: round(found[0], 4) for q, found in newest.items() if found}


@cache
def together() -> dict[str, Any]:
    """How mg/L and % of one oxygen display are held against each other, and what over saturation is; as core does."""
    return {
        "grid_c": GRID_C,
        "share": sense.TOGETHER_SHARE,
        "step": sense.TOGETHER_STEP_PERCENT,
        "supersaturated": sense.SUPERSATURATED_PERCENT,
        "natural": [slips.natural_factor(c) for c in GRID_C],
        "copied": slips.COPIED,
        "order": list(quantity_names.ORDER),
    }


def oxygen_tables(
    site: Site, probes: Sequence[Probe], settings: Mapping[uuid.UUID, MeterSettings]
) -> dict[str, list[float]]:
    """Saturation [mg/L] over the grid of temperatures: here, and as each oxygen probe's meter is set, by the probe's id."""
    pressure = float(station_pressure_hpa(site.altitude_m))
    salt = float(site.water.get("usual_salinity") or 0.0)
    terms = {"here": (salt, pressure)}
    for probe in probes:
        recorded = settings.get(probe.meter_id)
        case = RunContext(probe, RunConditions(pressure_hpa=pressure), recorded.settings if recorded else {})
        terms[str(probe.id)] = set_to(case)
    return {key: [round(float(saturation_mg_l(c, *each)), 4) for c in GRID_C] for key, each in terms.items()}


def _bands(site: Site, pasts: Mapping[float | None, Past], quantities: list[str], now: datetime) -> dict[str, Any]:
    """What is not questioned at this site, by depth ("" for none) and quantity; made from the same figures as on a sheet."""
    return _by_depth(
        site, pasts, lambda past: {q: [asdict(band) for band in bands(site, past, q, now)] for q in quantities}
    )


def _by_depth(site: Site, pasts: Mapping[float | None, Past], make: Callable[[Past], Any]) -> dict[str, Any]:
    """Something of each depth of a site, "" for none."""
    depths = {None, *site.depths, *pasts}
    return {"" if depth is None else f"{depth:g}": make(pasts.get(depth, {})) for depth in depths}


def _expected(
    site: Site, pasts: Mapping[float | None, Past], quantities: Sequence[str], now: datetime
) -> dict[str, dict[str, list[float]]]:
    """What a slip is looked for with, by depth and quantity: from, to, and the middle."""

    def of(past: Past) -> dict[str, list[float]]:
        should = {q: should_be(site, past, q, now) for q in (*quantities, "temperature")}
        return {q: [each.low, each.high, each.middle] for q, each in should.items() if each is not None}

    return _by_depth(site, pasts, of)


def _before(pasts: Mapping[float | None, Past], quantities: Sequence[str]) -> dict[str, dict[str, Any]]:
    """What was typed at the visit before, by depth and quantity: the display's value, and when [s since 1970]."""
    return {
        "" if depth is None else f"{depth:g}": {
            q: [past[q][0].raw, past[q][0].at.timestamp()] for q in quantities if past.get(q)
        }
        for depth, past in pasts.items()
    }


def _ways(quantity: str, tds_factor: float | None) -> list[dict[str, Any]]:
    return [way._asdict() for way in slips.ways(quantity, float(tds_factor) if tds_factor else None)]


def _entries(c: outings.Chosen, recorded: MeterSettings | None) -> list[dict[str, Any]]:
    """How a probe's display may be typed: limits, what makes it the reported quantity, whether a calibration backs it.

    The unit the meter is set to show comes first.
    """
    quantity = quantity_of(c.quantity)
    own = quantity.entry_of_settings(recorded.settings) if recorded else ""
    first = own or MEASURED[c.quantity].displayed
    newest = c.trust.calibration if c.trust.valid else None
    ways = sorted(quantity.entries.items(), key=lambda way: way[0] != first)
    return [
        {
            "key": key,
            "label": way.label,
            "low": way.low,
            "high": way.high,
            "reported": AS_REPORTED.get(key) or ((1.0, 0.0) if c.quantity == "redox" else None),
            "backed": newest is not None and quantity.can_read(newest, key),
        }
        for key, way in ways
    ]


class _Row(BaseModel):
    model_config = ConfigDict(allow_inf_nan=False, extra="forbid")
    probe: str = Field(max_length=40)
    unit: str = Field(max_length=20)
    value: float
    beside: float | None = None


class _Set(BaseModel):
    model_config = ConfigDict(allow_inf_nan=False, extra="forbid")
    at: datetime
    temperature_c: float
    depth_m: float | None = None
    rows: list[_Row] = Field(min_length=1, max_length=24)
    reason: str = Field(default="", max_length=600)  # of a set kept by a page that asked once for everything
    answers: dict[Annotated[str, Field(max_length=80)], Annotated[str, Field(max_length=600)]] = Field(
        default_factory=dict, max_length=60
    )


class _Photo(BaseModel):
    model_config = ConfigDict(extra="forbid")
    name: str = Field(max_length=120)
    jpeg: Base64Bytes = Field(max_length=4_000_000)


class _Sent(BaseModel):
    model_config = ConfigDict(allow_inf_nan=False, extra="forbid")
    key: str = Field(max_length=40)
    site: str = Field(max_length=40)
    sets: list[_Set] = Field(min_length=1, max_length=offline.MOST_SETS)
    note: str = Field(default="", max_length=2000)
    photos: list[_Photo] = Field(default_factory=list, max_length=4)
    both: bool = False

    @model_validator(mode="before")
    @classmethod
    def _of_one_set(cls, body: Any) -> Any:
        """Sheets that wait in a phone since before a visit could have several sets hold one, beside the site."""
        if isinstance(body, dict) and "sets" not in body:
            own = {k: body[k] for k in ("at", "temperature_c", "depth_m", "rows", "reason") if k in body}
            return {k: v for k, v in body.items() if k not in own} | {"sets": [own]}
        return body

    def visit(self, outing_id: str) -> offline.QueuedVisit:
        """As the use case takes it."""
        sets = [
            offline.ReadSet(
                one.at,
                [rounds.Typed(r.probe, r.unit, r.value) for r in one.rows],
                one.temperature_c,
                one.depth_m,
                one.reason,
                one.answers,
                {r.probe: rounds.Beside(r.beside) for r in one.rows if r.beside is not None},
            )
            for one in self.sets
        ]
        photos = [offline.TakenPhoto(p.name, p.jpeg) for p in self.photos]
        return offline.QueuedVisit(outing_id, self.site, sets, self.note, photos, self.both)


@blueprint.post("/outings/<outing_id>/send")
def send(outing_id: str) -> Any:
    """One visit of the queue: 200 kept, 409 a conflict to be shown, 422 something to answer or put right."""

    def do() -> dict[str, Any]:
        sent = _Sent.model_validate_json(request.get_data(cache=False))
        kept = late.send(desk(), actor(), object_id(sent.key, "visit"), sent.visit(outing_id))
        visit = url_for("rounds.visit", visit_id=kept.visit)
        return {"key": sent.key, "visit": visit, "readings": kept.readings}

    return answer_queue(do, "visit")


def answer_queue(do: Callable[[], dict[str, Any]], what: str) -> Response:
    """Take in what a phone had queued. The key comes back in what `do` returns: only this word strikes it out there."""
    try:
        return jsonify(do())
    except ValidationError as error:
        faults = [f"{'.'.join(str(p) for p in d['loc']) or f'the {what}'}: {d['msg']}" for d in error.errors()[:6]]
        return told(422, f"This {what} cannot be read. " + "; ".join(faults))
    except offline.Conflict as error:
        return told(409, in_words(error))
    except Unanswered as error:
        return told(422, in_words(error), error)
    except InputError as error:
        return told(422, " ".join(in_words(f) for f in error.faults))
    except (NotFound, MovedOn, Refused) as error:
        return told(422, in_words(error))


def told(status: int, words: str, asked: Unanswered | None = None) -> Response:
    """An answer to the queue: what to do, and what wants an answer."""
    questions = []
    if asked is not None:
        questions = [
            {"code": q.code, "sentence": in_words(q.sentence), "remedy": asked.remedy} for q in asked.questions
        ]
    response = jsonify({"message": words, "questions": questions})
    response.status_code = status
    return response
