"""What an attempt is worth: each criterion with its words, and the debrief that lays the truth beside what was done."""

from __future__ import annotations

import math
from collections.abc import Iterator
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core.meter_settings import SETTINGS as LABELS
from brumel.core.quantity_table import MEASURED
from brumel.core.settling import judge
from brumel.core.verdict import Outcome
from brumel.meters.sensors import FAULTS, Liquid, Start, sensor
from brumel.methods import Method
from brumel.methods.scenarios import CRITERIA, MUST_HOLD, Scenario, draw, vocabulary
from brumel.store.logger import LoggerCheck, LoggerDecision
from brumel.store.records import Decision
from brumel.store.tables import Calibration, Dip, Lot, Point, Reading, Run, RunEnd
from brumel.work import kit, simulator
from brumel.work.practice.table import CARE, CUP_ML, ON_DISPLAY, OnTable, Stand, Table, shows
from brumel.work.practice.world import SETTINGS
from brumel.work.quantities import names as quantity_names
from brumel.work.quantities.base import RunContext
from brumel.work.quantities.book import quantity_of
from brumel.work.records.decisions import DECISIONS
from brumel.work.rounds.logger.checks import DECIDED

#: The most a value may be off before it is a bad one: (absolute, share). USGS-TM1D3 for the first four, the others chosen.
BAD = {
    "temperature": (0.2, 0.0),
    "ph": (0.2, 0.0),
    "conductivity": (5.0, 0.05),
    "oxygen": (0.3, 0.05),
    "redox": (25.0, 0.0),
    "nitrate": (0.0, 0.2),
    "ammonium": (0.0, 0.2),
    "chlorine": (0.15, 0.1),
}
#: A water for a scenario that has no site.
USUAL_WATER = {
    "ph": 7.2,
    "temperature_c": 12.0,
    "conductivity_25_us_cm": 620.0,
    "oxygen_percent": 92.0,
    "redox_mv": 230.0,
    "nitrate_mg_l": 6.0,
    "ammonium_mg_l": 4.0,
    "chlorine_mg_l": 1.5,
}
#: Half as much again as an expert needs counts as kept.
ROOM = 1.5
#: Readings of before the attempt that its decisions are about are as old as this at most.
TODAY = timedelta(hours=24)
#: How closely the moment is found at which a cup had settled [s].
SETTLED_WITHIN_S = 6.0
#: Values drawn of the trace at most.
DRAWN = 420
#: Of what is done by hand, what the debrief tells; the rest is told where it was a slip.
TOLD = (*CARE, "inspect", "test_kit", "set", "walk")
NOT_READY = {"not_polarised": "had not polarised yet", "not_hydrated": "was not hydrated yet"}
#: A reading of one of these backings is not passed on as good.
HELD_BACK = ("doubtful", "not reported")


def still_to_do(session: Session, told: Scenario, begun: datetime) -> str:
    """What has to be done before a finding is taken, in a sentence; empty where it is."""
    wanted: dict[str, tuple[Any, str]] = {
        "calibrated": (select(RunEnd.run_id).where(RunEnd.at >= begun), "Finish or abandon a run on Bench first"),
        "checked": (select(RunEnd.run_id).where(RunEnd.at >= begun), "Finish the check on Bench first"),
        "read": (select(Reading.id).where(Reading.written_at >= begun), "Record a reading at the site first"),
        "decided": (select(Decision.id).where(Decision.at >= begun), "Decide about the readings in Records first"),
        "logged": (select(LoggerDecision.id).where(LoggerDecision.at >= begun), "Decide about the series first"),
        "traced": (
            select(Decision.id).where(Decision.at >= begun),
            "Decide about the affected results in Records first",
        ),
    }
    if told.done not in wanted:
        return ""
    query, words = wanted[told.done]
    return "" if session.scalar(query.limit(1)) is not None else f"{words}; then say what you found."


def judge_attempt(
    session: Session, told: Scenario, table: Table, begun: datetime, now: datetime, cause: str, step: str
) -> dict[str, Any]:
    """The criteria as rows {key, title, ok, words, must}, and the debrief."""
    moments = sorted(_moments(session, table, begun), key=lambda m: m["at"])
    unsafe = [m for m in moments if m.get("unsafe")]
    early = [m for m in moments if m.get("early")]
    slips = [a for a in table.acts if a.slip]
    minutes = (now - begun).total_seconds() / 60
    known = vocabulary()
    good_causes = (told.cause, *told.also)
    rows = {
        "truth": (cause in good_causes, f"{known.words_of_cause(told.cause)}."),
        "next": (step in told.next, f"{' or '.join(known.words_of_step(s) for s in told.next)}."),
        "safe": (
            not unsafe,
            " ".join(m["unsafe"] for m in unsafe[:3]) or "No value that was used or recorded is a bad one.",
        ),
        "waits": (not early, " ".join(m["early"] for m in early[:3]) or "Nothing was taken before its time."),
        "handling": (
            not slips,
            " ".join(dict.fromkeys(a.slip for a in slips)) or "Rinsed, blotted and moved as it should be.",
        ),
        "solution": (
            table.poured_ml <= told.solution_ml * ROOM,
            f"{table.poured_ml:.0f} mL poured; an expert needs {told.solution_ml:.0f} mL.",
        ),
        "minutes": (minutes <= told.minutes * ROOM, f"{minutes:.0f} min; an expert needs {told.minutes:.0f} min."),
    }
    criteria = [
        {"key": key, "title": CRITERIA[key], "ok": bool(ok), "words": words, "must": key in MUST_HOLD}
        for key, (ok, words) in rows.items()
    ]
    debrief = {
        "truths": _truths(session, told, table),
        "moments": [_kept(m, begun) for m in moments],
        "traces": [_trace(probe, begun, now) for probe in table.probes.values()],
        "expert_line": [] if _is_waited_for(told, table) else _expert_line(moments),
        "lasted_s": round((now - begun).total_seconds(), 1),
        "begun": begun.isoformat(),
        "notices": list(told.notices),
        "expert": list(told.expert.says),
        "poured_ml": table.poured_ml,
    }
    return {"criteria": criteria, "debrief": debrief}


#: Out of the last cup, rinsed, blotted, poured and into the next one [s].
HANDLED_S = 45.0


def _is_waited_for(told: Scenario, table: Table) -> bool:
    """Whether an expert does not go from cup to cup here: what is to be waited for or mended stands between."""
    return told.done == "looked" or any(act.act in CARE for act in table.acts)


def _expert_line(moments: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """The same cups as an expert takes them, one after the other from the beginning: handled, then left until settled [s]."""
    line, at = [], 0.0
    for moment in moments:
        if settles := moment.get("settles"):
            line.append({"from": at + HANDLED_S, "to": at + HANDLED_S + settles["after_s"], "words": settles["step"]})
            at = line[-1]["to"]
    return line


def _kept(moment: dict[str, Any], begun: datetime) -> dict[str, Any]:
    """A moment as it is kept: its time, and what was settled when, from the beginning of the attempt."""
    kept = moment | {"at": moment["at"].isoformat(), "s": _seconds(moment["at"], begun)}
    if since := kept.pop("went_in", None):
        kept["settles"] = {**kept["settles"], "s": _seconds(since, begun) + kept["settles"]["after_s"]}
    return kept


def _seconds(at: datetime, begun: datetime) -> float:
    return round(max(0.0, (at - begun).total_seconds()), 1)


# -- the truth


def _truths(session: Session, told: Scenario, table: Table) -> list[dict[str, str]]:
    """The hidden truth, thing by thing, in words."""
    found = []
    for probe in table.probes.values():
        hidden = told.probes[probe.key].now.get("faults", ())
        known = FAULTS[probe.quantity]
        faults = [known[f] for f in hidden if f in known] if isinstance(hidden, tuple) else []
        figures, before = _figures(probe.quantity, probe.body), told.probes[probe.key].before
        if before:
            figures += (
                f"; when it was last calibrated {_figures(probe.quantity, draw(dict(before), table.seed, probe.key))}"
            )
        if told.probes[probe.key].truth:
            faults = [told.probes[probe.key].truth]
        words = "; ".join([*faults, figures]) if faults else figures if before else f"sound; {figures}"
        found.append({"what": probe.name, "words": words})
    for shelf in table.bottles.values():
        parts = []
        if shelf.holds != shelf.lot:
            holds = session.get_one(Lot, shelf.holds)
            parts.append(f"holds {holds.name}, whatever its label says")
        if shelf.shift:
            parts.append(f"is {shelf.shift:+.2f} off its label".replace("-", "−"))
        if shelf.strength != 1:
            parts.append(f"is {100 * (shelf.strength - 1):+.0f} % off its label".replace("-", "−"))
        if abs(shelf.temperature_c - table.room_c) > 1.5:
            parts.append(f"stands at {shelf.temperature_c:.1f} °C in a room of {table.room_c:.1f} °C")
        found.append({"what": f"{shelf.name}, {shelf.code}", "words": " and ".join(parts) or "is what its label says"})
    for name, value in told.meter.truly.items():
        recorded = {**SETTINGS, **told.meter.settings}.get(name)
        found.append({"what": "Meter", "words": f"{LABELS[name].label} is set to {value}, recorded is {recorded}"})
    if table.test_kit_off:
        found.append({"what": "Test kit", "words": f"reads {table.test_kit_off:+.1f} mg/L off".replace("-", "−")})
    return found


def _figures(quantity: str, body: dict[str, Any]) -> str:
    if quantity == "ph":
        return f"slope {100 * body.get('slope', 0.985):.1f} %, offset {body.get('offset_mv', 3.0):+.1f} mV".replace(
            "-", "−"
        )
    if quantity == "conductivity":
        return f"cell constant {body.get('cell_constant', 1.02):.3f}"
    if quantity == "oxygen":
        return f"gain {100 * body.get('gain', 0.97):.0f} %"
    if quantity == "redox":
        return f"offset {body.get('offset_mv', 4.0):+.0f} mV".replace("-", "−")
    if quantity in ("nitrate", "ammonium"):
        return f"slope {100 * body.get('slope', 0.97):.1f} %"
    if quantity == "temperature":
        return f"error {body.get('error_c', 0.04):+.2f} °C".replace("-", "−")
    return f"gain {100 * body.get('gain', 0.98):.0f} %"


# -- what was done, on one line of time


def _moments(session: Session, table: Table, begun: datetime) -> Iterator[dict[str, Any]]:
    for act in table.acts:
        if act.act in TOLD or act.slip:
            yield {"at": act.at, "kind": "slip" if act.slip else "act", "words": act.slip or act.words}
    runs = {r.id: r for r in session.scalars(select(Run).where(Run.started_at >= begun))}
    points = session.scalars(select(Point).where(Point.run_id.in_(runs), ~Point.withdrawn)).all() if runs else []
    for point in points:
        yield _point(table, runs[point.run_id], point, session.get(Dip, point.dip_id) if point.dip_id else None)
    for calibration in session.scalars(select(Calibration).where(Calibration.at >= begun)):
        yield _calibration(session, table, calibration)
    for reading in session.scalars(
        select(Reading).where(Reading.written_at >= begun - TODAY, Reading.probe_id.is_not(None))
    ):
        if (moment := _reading(session, table, reading)) is not None:
            yield moment
    for check in session.scalars(select(LoggerCheck).where(LoggerCheck.at >= begun)):
        yield {"at": check.at, "kind": "reading", "words": f"The logger's end was read. {check.sentence}"}
    for each in session.scalars(select(LoggerDecision).where(LoggerDecision.at >= begun)):
        yield {
            "at": each.at,
            "kind": "decision",
            "words": f"The series: {DECIDED[each.decision]}. {each.reason}".strip(),
        }
    for decision in session.scalars(select(Decision).where(Decision.at >= begun)):
        yield {
            "at": decision.at,
            "kind": "decision",
            "words": f"Decided: {DECISIONS[decision.decision]}. {decision.reason}".strip(),
        }


def _point(table: Table, run: Run, point: Point, dip: Dip | None) -> dict[str, Any]:
    quantity = quantity_of(run.probe.quantity)
    taken = f"{point.signal:.{quantity.signal_digits}f} {quantity.signal_unit}".replace("-", "−")
    title = next((s["title"] for s in run.method["steps"] if s["key"] == point.step), point.step)
    cost = f"; {(point.at - dip.started_at).total_seconds():.0f} s in it" if dip is not None else ""
    cost += f", {CUP_ML:.0f} mL" if point.lot_id else ""
    moment: dict[str, Any] = {"at": point.at, "kind": "point", "words": f"Took {title}: {taken}{cost}."}
    if point.suspicions:
        told = [s["sentence"] for s in point.suspicions]
        moment["spoke"] = " ".join(t if isinstance(t, str) else str(t.get("text", "")) for t in told)
    probe = table.probes.get(run.probe_id)
    stand = _stand_at(probe, point.at) if probe else None
    if probe and stand and point.expected is not None and (words := _not_as_labelled(probe, stand, point)):
        moment["truly"] = words
    if probe is not None and stand is not None and dip is not None:
        found = _settles(probe, stand, run, point.step, dip.started_at)
        # What was typed is a signal by the settings on record: beside the true one it would only confuse.
        at = (
            f", at {found[1]:.{quantity.signal_digits}f} {quantity.signal_unit}"
            if found and run.source == "live"
            else ""
        )
        moment["settles"] = (
            {"probe": probe.name, "step": title, "after_s": found[0], "value": found[1], "at": _plain(at)}
            if found
            else None
        )
        if found:
            moment["went_in"] = dip.started_at
    if point.early:
        moment["early"] = f"{title} was accepted before it had settled."
    elif stand is not None:
        faults = stand.body.get("faults", ())
        for fault, words in NOT_READY.items():
            if fault in faults and float(stand.body.get("severity", 1.0)) > 0.1:
                moment["early"] = f"{run.probe.name} {words} when {title} was taken."
    return moment


#: What a cup truly held, by quantity; oxygen is compared in percent elsewhere.
_HELD = {
    "ph": "ph",
    "conductivity": "conductivity_us_cm",
    "redox": "redox_mv",
    "nitrate": "ion_mg_l",
    "ammonium": "ion_mg_l",
}


def _settles(probe: OnTable, stand: Stand, run: Run, step: str, since: datetime) -> tuple[float, float] | None:
    """When a cup would have been settled by the method [s since the probe went in], and where; None where it never is.

    What the probe would have shown, had it been left where it stood.
    """
    method = Method.model_validate(run.method)
    spec = next(s for s in method.steps if s.key == step)
    criteria = quantity_of(probe.quantity).criteria(method, spec).criteria(MEASURED[probe.quantity].signal.words)
    left = probe.model_copy(update={"stands": probe.stands[: probe.stands.index(stand) + 1]})
    seconds = np.arange(0.0, criteria.longest_s + 0.25, 0.5)
    y, _ = shows(left, [since + timedelta(seconds=float(s)) for s in seconds])

    def value_at(after_s: float) -> float | None:
        seen = int(after_s / 0.5) + 1
        judged = judge(seconds[:seen], y[:seen], criteria)
        return float(judged.value) if judged.settled and judged.value is not None else None

    before, after = criteria.shortest_s, criteria.shortest_s
    while value_at(after) is None:
        if after >= criteria.longest_s:
            return None
        before, after = after, min(after * 1.5, criteria.longest_s)
    while after - before > SETTLED_WITHIN_S:
        half = (before + after) / 2
        before, after = (before, half) if value_at(half) is not None else (half, after)
    return round(after, 1), float(value_at(after) or 0.0)


def _not_as_labelled(probe: OnTable, stand: Stand, point: Point) -> str:
    """What stood in the cup, where it was not what the point took it for; empty where it was."""
    held = stand.liquid.get(_HELD.get(probe.quantity, ""))
    expected = float(point.expected or 0.0)
    if held is None or stand.place == "holder" or not _differs(probe.quantity, float(held), expected):
        return ""
    quantity = quantity_of(probe.quantity)
    return f"What stood there was {quantity.with_unit(float(held))}, taken for {quantity.with_unit(expected)}."


def _differs(quantity: str, held: float, expected: float) -> bool:
    absolute, share = BAD[quantity]
    return abs(held - expected) > max(absolute / 4, share * abs(expected) / 4)


def _stand_at(probe: OnTable, at: datetime) -> Stand | None:
    return next((s for s in reversed(probe.stands) if s.at <= at), None)


def _calibration(session: Session, table: Table, calibration: Calibration) -> dict[str, Any]:
    """A calibration that was finished; where it is used, what it makes of a water and what that water truly is."""
    verdict = f"Verdict on {calibration.run.probe.name}: {Outcome(calibration.outcome).words}"
    use = "used" if calibration.usable else "not used"
    first = calibration.causes[0]["cause"] if calibration.causes else ""
    named = f" It named first: {first[:1].lower()}{first[1:]}." if first else ""
    moment: dict[str, Any] = {"at": calibration.at, "kind": "verdict", "words": f"{verdict}; {use}.{named}"}
    probe = table.probes.get(calibration.probe_id)
    if probe is None or not calibration.usable:
        return moment
    quantity = calibration.run.probe.quantity
    read, true, unit = would_read(probe, calibration, table.water or USUAL_WATER)
    digits = quantity_of(quantity).digits
    beside = f"It reads {read:.{digits}f} {unit} of a water where {true:.{digits}f} is true."
    moment["reads"] = {"read": read, "true": true, "unit": unit, "words": _plain(beside)}
    if is_bad(quantity, read, true):
        moment["unsafe"] = (
            f"With this calibration {MEASURED[quantity].words} would be reported as {read:.{digits}f} {unit} where it is "
            f"{true:.{digits}f}."
        ).replace("-", "−")
    return moment


def _plain(words: str) -> str:
    """A sentence with true minus signs, and without the gap that a missing unit leaves."""
    return " ".join(words.replace("-", "−").split())


def would_read(probe: OnTable, calibration: Calibration, water: dict[str, Any]) -> tuple[float, float, str]:
    """What a probe as it is now reads of a water by a calibration, what is true, and the unit."""
    liquid = simulator.site_water({**USUAL_WATER, **water, "stirred": True}, probe.quantity)
    t = np.arange(3600.0, 3660.0, 0.5)
    y, c = sensor(probe.quantity, probe.body).sense(liquid, t, Start(0.0, liquid.temperature_c), 9001)
    if calibration.run.conditions.adjusted:
        shown = _set_meter_shows(probe, calibration, float(np.mean(y)), float(np.mean(c)))
        return shown, true_value(probe.quantity, liquid), quantity_of(probe.quantity).unit.replace("pH", "").strip()
    read = float(kit.restored(calibration).read(float(np.mean(y)), float(np.mean(c))))
    return read, true_value(probe.quantity, liquid), quantity_of(probe.quantity).unit.replace("pH", "").strip()


def _set_meter_shows(probe: OnTable, calibration: Calibration, signal: float, temperature_c: float) -> float:
    """What a meter that was adjusted itself shows: by its own arithmetic, whatever the probe's."""
    case = RunContext(calibration.run.probe, calibration.run.conditions)
    return probe.set_to_show(
        quantity_of(probe.quantity).shown(ON_DISPLAY[probe.quantity][0], signal, temperature_c, case)
    )


def true_value(quantity: str, liquid: Liquid) -> float:
    """What a calibration should make of a water, in the quantity's unit, at the water's own temperature."""
    from brumel.core.oxygen import saturation_mg_l

    if quantity == "ph":
        return liquid.ph
    if quantity == "conductivity":
        return liquid.conductivity_us_cm
    if quantity == "oxygen":
        return liquid.oxygen_percent / 100 * float(saturation_mg_l(liquid.temperature_c))
    if quantity == "redox":
        return liquid.redox_mv
    if quantity == "temperature":
        return liquid.temperature_c
    return liquid.chlorine_mg_l if quantity == "chlorine" else liquid.ion_mg_l


def is_bad(quantity: str, read: float, true: float) -> bool:
    """Whether a value is too far from the truth to be passed on."""
    absolute, share = BAD[quantity]
    return not math.isfinite(read) or abs(read - true) > max(absolute, share * abs(true))


def _reading(session: Session, table: Table, reading: Reading) -> dict[str, Any] | None:
    """A reading that stands; what the water truly was there beside it."""
    newest = session.scalar(
        select(Reading).where(Reading.root_id == reading.root_id).order_by(Reading.version.desc()).limit(1)
    )
    if newest is None or newest.id != reading.id or newest.struck or reading.quantity not in BAD or not table.water:
        return None
    liquid = simulator.site_water({**USUAL_WATER, **table.water}, reading.quantity, reading.depth_m)
    true = true_value(reading.quantity, liquid)
    if reading.quantity == "conductivity":
        true = float(table.water.get("conductivity_25_us_cm", true))
        true += max((reading.depth_m or 0.0) - 0.3, 0.0) * table.water.get("layers", {}).get(
            "conductivity_25_us_cm", 0.0
        )
    digits = quantity_names.digits(reading.quantity)
    value = f"{reading.value:.{digits}f}".replace("-", "−")
    backed = quantity_names.backing(reading.backing)
    words = f"Recorded {MEASURED[reading.quantity].words} {value} {reading.unit}, {backed}"
    moment: dict[str, Any] = {"at": reading.written_at, "kind": "reading", "words": f"{words}."}
    beside = _plain(f"There {true:.{digits}f} {reading.unit} is true.")
    moment["reads"] = {"read": reading.value, "true": true, "unit": reading.unit, "words": beside}
    if reading.backing not in HELD_BACK and is_bad(reading.quantity, reading.value, true):
        moment["unsafe"] = (
            f"{quantity_names.title(reading.quantity)} {value} was recorded where it is {true:.{digits}f}."
        )
    return moment


def _trace(probe: OnTable, begun: datetime, now: datetime) -> dict[str, Any]:
    """What a probe showed from beginning to end, thinned out for a drawing."""
    lasted = max(1.0, (now - begun).total_seconds())
    seconds = np.unique(np.concatenate([np.linspace(0, lasted, DRAWN), _turns(probe, begun, lasted)]))
    y, _ = shows(probe, [begun + timedelta(seconds=float(s)) for s in seconds])
    quantity = MEASURED[probe.quantity]
    return {
        "name": probe.name,
        "unit": quantity.signal.unit,
        "t": [round(float(s), 1) for s in seconds],
        "y": [round(float(v), 2) for v in y],
        "stands": [{"s": round(max(0.0, (s.at - begun).total_seconds()), 1), "place": s.place} for s in probe.stands],
    }


def _turns(probe: OnTable, begun: datetime, lasted: float) -> Any:
    """Seconds just before and after each move, so that the drawing shows it."""
    at = [(s.at - begun).total_seconds() for s in probe.stands]
    return np.array([s + d for s in at for d in (-0.5, 0.5, 3, 8, 20, 45) if 0 <= s + d <= lasted])
