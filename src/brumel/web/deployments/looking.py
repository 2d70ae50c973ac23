"""A deployment looked at: its channels on one axis of time, figures, and all of it to take away."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np
from flask import Response, jsonify, render_template, request, url_for

from brumel.core.deployed.thinning import Thinned
from brumel.core.errors import InputError
from brumel.formats.datapackage import write_datapackage
from brumel.formats.waterml import write_waterml
from brumel.methods.sources import load_sources
from brumel.web.access import desk
from brumel.web.deployments.place import Faults, blueprint
from brumel.web.drawings import deployment as drawings
from brumel.web.units import Scale, scale
from brumel.work.desk import Refused
from brumel.work.records import openly
from brumel.work.rounds import deployments as dep
from brumel.work.rounds.deployments import channels, out
from brumel.work.rounds.deployments.looking import span_of_figures
from brumel.work.rounds.deployments.whole import Whole, us

#: Columns of the drawing where the page asks for none.
COLUMNS = 1000


def _whole(session: Any, deployment_id: str) -> Whole:
    return dep.whole_of(session, dep.deployment_of(session, deployment_id))


def _asked_span(whole: Whole) -> tuple[datetime, datetime]:
    """The span of the address in seconds since 1970; all of the record without one. Raises InputError."""
    whole_span = whole.span()
    if whole_span is None:
        raise InputError("since", "Nothing was recorded yet.")
    ends = []
    for name, usual in zip(("since", "until"), whole_span, strict=True):
        text = request.args.get(name, "")
        try:
            ends.append(datetime.fromtimestamp(float(text), UTC) if text else usual)
        except (ValueError, OverflowError, OSError):
            raise InputError(name, "A span is asked for in seconds since 1970.", value=text[:20]) from None
    if ends[1] <= ends[0]:
        ends[1] = ends[0] + timedelta(seconds=whole.deployment.interval_s)
    return ends[0], ends[1]


@blueprint.get("/<deployment_id>/look")
def look(deployment_id: str, faults: Faults = ()) -> Any:
    """The record of all channels, panned and zoomed down to single values, with figures of what is reported."""
    with desk().read() as session:
        whole = _whole(session, deployment_id)
        d, span = whole.deployment, whole.span()
        figured = span_of_figures(whole)
        figures = [dep.figures(session, whole, c, *figured) for c in d.channels] if figured else []
        body = {
            "view": url_for("deployments.view", deployment_id=d.id),
            "zone": d.site.zone,
            "interval_s": d.interval_s,
            "span": [at.timestamp() for at in span] if span else None,
            "channels": [_about(whole, c) for c in d.channels],
            "services": [[s.at.timestamp(), dep.back_at(s).timestamp()] for s in whole.services],
        }
        page = render_template(
            "deployments/look.html",
            d=d,
            zone=d.site.zone,
            whole=whole,
            span=span,
            body=body,
            figures=figures,
            figured=figured if figured != span else None,
            envelopes={f.channel.quantity: drawings.envelope(f.day, f.channel) for f in figures if f.reported},
            seasons={
                f.channel.quantity: drawings.envelope(f.season, f.channel, months=True)
                for f in figures
                if f.reported and (f.season.counts > 0).sum() > 2
            },
            marks=[(c, m) for c in d.channels for m in whole.marks[c.id]],
            mark_words=dep.MARKS,
            given=dict(request.form),
            faults=faults,
        )
        return page, 422 if faults else 200


def _about(whole: Whole, c: Any) -> dict[str, Any]:
    limit, shown = whole.deployment.site.limits.get(c.quantity, {}), scale(c.unit)
    return {
        "quantity": c.quantity,
        "title": channels.title(c.quantity),
        "unit": shown.unit,
        "low": None if limit.get("low") is None else shown(limit["low"]),
        "high": None if limit.get("high") is None else shown(limit["high"]),
        "marks": [[m.starts.timestamp(), m.ends.timestamp(), m.flag] for m in whole.marks[c.id]],
    }


@blueprint.get("/<deployment_id>/look.json")
def view(deployment_id: str) -> Any:
    """The channels of a span, thinned for a drawing of so many columns."""
    try:
        with desk().read() as session:
            whole = _whole(session, deployment_id)
            since, until = _asked_span(whole)
            columns = request.args.get("columns", str(COLUMNS))
            n = int(columns) if columns.isascii() and columns.isdigit() and len(columns) < 6 else 0
            wanted = set(request.args.getlist("channel")[:20])
            views = [
                dep.view(session, whole, c, since, until, n)
                for c in whole.deployment.channels
                if not wanted or c.quantity in wanted
            ]
    except InputError as error:
        return jsonify({"error": str(error)}), 422
    return jsonify(
        {
            "since": since.timestamp(),
            "until": until.timestamp(),
            "channels": [
                {
                    "quantity": v.channel.quantity,
                    "recorded": _columns(v.recorded, scale(v.channel.unit)),
                    "reported": _columns(v.reported, scale(v.channel.unit)) if v.reported else None,
                    "odd": _odd(v, since.timestamp(), until.timestamp()),
                    "grades": v.grades,
                    "count": v.count,
                    "level": v.level,
                }
                for v in views
            ],
        }
    )


def _odd(v: dep.View, since: float, until: float) -> list[list[float]]:
    shown = scale(v.channel.unit)
    return [[round(t, 3), shown(value), flag] for t, value, flag in v.odd if since <= t <= until]


def _columns(drawn: Thinned, shown: Scale) -> dict[str, Any]:
    """Times, least and greatest, a gap as a column without values; single values have one array for both."""
    t, low, high = drawn.times_s, drawn.low, drawn.high
    after = np.flatnonzero(drawn.gap_after)
    if after.size:
        t = np.insert(t, after + 1, t[after] + 0.001)
        low, high = (np.insert(v, after + 1, np.nan) for v in (low, high))
    body: dict[str, Any] = {
        "t": np.round(t, 3).tolist(),
        "low": _plain(low * shown.factor + shown.shift),
        "single": drawn.is_single,
    }
    return body if drawn.is_single else body | {"high": _plain(high * shown.factor + shown.shift)}


def _plain(values: Any) -> list[float | None]:
    return [None if v != v else v for v in np.round(values, 6).tolist()]


# -- taken away


def _name(whole: Whole, ending: str) -> str:
    d = whole.deployment
    return f'attachment; filename="brumel-deployment-{d.planned_start:%Y%m%d}-{str(d.id)[:8]}.{ending}"'


@blueprint.get("/<deployment_id>/records.csv")
def records_csv(deployment_id: str) -> Any:
    """Every record of all channels, or of a span: as recorded, as reported, flag, grade, expanded uncertainty."""
    with desk().read() as session:
        whole = _whole(session, deployment_id)
        span = whole.span()
        since, until = _asked_span(whole) if span else (None, None)
        if since and until and (until - since).total_seconds() / whole.deployment.interval_s > out.MOST_ROWS:
            raise Refused(
                f"A table holds {out.MOST_ROWS:,} records; come closer on the record's page, and take what is shown."
            )
        several = out.channels_out(session, whole, us(since) if since else None, us(until) if until else None)
        response = Response(_lines(several), mimetype="text/csv")
    response.headers["Content-Disposition"] = _name(whole, "csv")
    return response


def _lines(several: list[out.ChannelOut]) -> Iterator[str]:
    text = io.StringIO()
    writer = csv.writer(text)
    head = ["time_utc"]
    for c in several:
        named = f"{c.channel.quantity} [{c.channel.unit}]" if c.channel.unit else c.channel.quantity
        head += [f"{named} recorded", f"{named} reported", f"{named} U (k=2)"]
        head += [f"{c.channel.quantity} qartod_flag", f"{c.channel.quantity} grade", f"{c.channel.quantity} backing"]
    writer.writerow(head)
    for number, (at, cells) in enumerate(out.rows(several), 1):
        row = [at.strftime("%Y-%m-%dT%H:%M:%SZ")]
        for c, cell in zip(several, cells, strict=True):
            if cell is None:
                row += [""] * 6
            else:
                row += [
                    _digits(cell.recorded),
                    _digits(cell.reported),
                    _digits(cell.u, 3),
                    str(cell.flag),
                    cell.grade,
                    c.state,
                ]
        writer.writerow(row)
        if number % 2000 == 0:
            yield text.getvalue()
            text.seek(0)
            text.truncate()
    yield text.getvalue()


def _digits(value: float | None, digits: int = 6) -> str:
    return "" if value is None else f"{value:.{digits}g}"


def _open(session: Any, whole: Whole) -> Any:
    several = out.channels_out(session, whole)
    count = sum(c.told.values.size for c in several)
    if count > out.MOST_OPEN:
        raise Refused(f"{count:,} values are too many for this format; the CSV holds all of them.")
    return openly.open_deployment(session, whole, several, desk().clock())


@blueprint.get("/<deployment_id>/records.xml")
def records_waterml(deployment_id: str) -> Any:
    """All channels as they are reported, in WaterML 2.0."""
    with desk().read() as session:
        whole = _whole(session, deployment_id)
        response = Response(write_waterml(_open(session, whole)), mimetype="application/xml")
    response.headers["Content-Disposition"] = _name(whole, "xml")
    return response


@blueprint.get("/<deployment_id>/records.zip")
def records_package(deployment_id: str) -> Any:
    """All channels as they are reported, as a data package."""
    with desk().read() as session:
        whole = _whole(session, deployment_id)
        body = write_datapackage(_open(session, whole), "other-closed", list(load_sources().items()))
        response = Response(body, mimetype="application/zip")
    response.headers["Content-Disposition"] = _name(whole, "zip")
    return response
