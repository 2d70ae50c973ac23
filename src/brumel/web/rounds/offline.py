"""Without a signal: a round's sheets, box and sites on one page the browser keeps, and the queue it sends later."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from flask import Response, current_app, jsonify, make_response, render_template, request, send_from_directory, url_for
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from brumel import __version__
from brumel.core.errors import InputError
from brumel.core.quantity_table import MEASURED
from brumel.methods.field import load_field
from brumel.web.access import actor, desk
from brumel.web.reader import in_words
from brumel.web.rounds.routes import blueprint
from brumel.work import rounds
from brumel.work.bench.points import TYPED_C
from brumel.work.desk import MovedOn, NotFound, Refused, object_id
from brumel.work.quantities import names as quantity_names
from brumel.work.quantities.book import quantity_of
from brumel.work.rounds import offline, outings, packing
from brumel.work.rounds.sheet.entry import DEPTH_M

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
    "js/field/queue.js",
    "js/kept.js",
    "js/keys.js",
    "js/session.js",
    "img/mark.svg",
)


@blueprint.get("/sw.js")
def worker() -> Any:
    """The service worker, from where its scope is Rounds."""
    return send_from_directory(current_app.static_folder or "", "js/sw.js", mimetype="text/javascript")


@blueprint.get("/outings/<outing_id>/field")
def field(outing_id: str) -> Any:
    """Everything of a round that is needed out of reach, on one page."""
    with desk().read() as session:
        outing = outings.outing(session, outing_id)
        now = desk().clock()
        carried = outings.choice(session, outing.round, now)
        usual = sorted({q for s in outing.round.sites for q in s.ranges})
        last = rounds.latest(session, [s.id for s in outing.round.sites], usual)
        sites = [
            {
                "id": str(s.id),
                "name": s.name,
                "client": s.client,
                "note": s.note,
                "depths": s.depths,
                "usual": s.ranges,
                "limits": s.limits,
                "last": {r.quantity: round(r.value, 4) for r in last[s.id] if r.quantity in s.ranges},
            }
            for s in outing.round.sites
        ]
        probes = [
            {
                "id": str(c.probe.id),
                "name": c.probe.name,
                "quantity": c.quantity,
                "words": quantity_names.name(c.quantity),
                "trust": c.trust.words,
                "valid": c.trust.valid,
                "entries": _entries(c.quantity),
                "instrument": load_field()[c.quantity].instrument,
            }
            for c in carried.best(now)
        ]
        body = {
            "outing": str(outing.id),
            "sites": sites,
            "probes": probes,
            "send": url_for("rounds.send", outing_id=outing.id),
            "bounds": {"temperature_c": TYPED_C, "depth_m": DEPTH_M},
            "keep": [url_for("static", filename=name) for name in KEPT],
            "page": request.path,
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
        )
    response = make_response(page)
    response.headers["X-Brumel-User"] = str(actor().id)  # whose page it is, for the worker that keeps it
    return response


def _entries(quantity: str) -> list[dict[str, Any]]:
    first = MEASURED[quantity].displayed
    ways = quantity_of(quantity).entries.items()
    return [
        {"key": k, "label": e.label, "low": e.low, "high": e.high, "reported": k == first}
        for k, e in sorted(ways, key=lambda w: w[0] != first)
    ]


class _Row(BaseModel):
    model_config = ConfigDict(allow_inf_nan=False, extra="forbid")
    probe: str = Field(max_length=40)
    unit: str = Field(max_length=20)
    value: float


class _Sent(BaseModel):
    model_config = ConfigDict(allow_inf_nan=False, extra="forbid")
    key: str = Field(max_length=40)
    site: str = Field(max_length=40)
    at: datetime
    temperature_c: float
    depth_m: float | None = None
    rows: list[_Row] = Field(min_length=1, max_length=24)
    note: str = Field(default="", max_length=2000)
    reason: str = Field(default="", max_length=600)
    both: bool = False


@blueprint.post("/outings/<outing_id>/send")
def send(outing_id: str) -> Any:
    """One sheet of the queue: 200 kept, 409 a conflict to be shown, 422 something to answer or put right."""
    try:
        sent = _Sent.model_validate_json(request.get_data(cache=False)[:100_000])
    except ValidationError as error:
        faults = [f"{'.'.join(str(p) for p in d['loc']) or 'the sheet'}: {d['msg']}" for d in error.errors()[:6]]
        return _told(422, "This sheet cannot be read. " + "; ".join(faults))
    try:
        recorded = offline.send(
            desk(),
            actor(),
            object_id(sent.key, "sheet"),
            offline.QueuedSheet(
                outing_id=outing_id,
                site_id=sent.site,
                at=sent.at,
                rows=[rounds.Typed(r.probe, r.unit, r.value) for r in sent.rows],
                temperature_c=sent.temperature_c,
                depth_m=sent.depth_m,
                note=sent.note,
                reason=sent.reason,
                both=sent.both,
            ),
        )
    except offline.Conflict as error:
        return _told(409, in_words(error))
    except NotFound as error:
        return _told(422, in_words(error))
    except InputError as error:
        return _told(422, " ".join(str(f) for f in error.faults))
    except (MovedOn, Refused) as error:
        return _told(422, in_words(error))
    # The key comes back: only this word strikes the sheet out in the phone.
    return jsonify(
        {"key": sent.key, "visit": url_for("rounds.visit", visit_id=recorded.visit), "readings": recorded.readings}
    )


def _told(status: int, words: str) -> Response:
    response = jsonify({"message": words})
    response.status_code = status
    return response
