"""Every line of a sheet judged together, with all that it is compared with at hand; no database is asked."""

from __future__ import annotations

import math
import uuid
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

import numpy as np

from brumel.core import believability as belief
from brumel.core import oxygen, sense, suspicion
from brumel.core.doubts import Circumstances, Doubt, doubts
from brumel.core.errors import InputError, words_of
from brumel.core.fitness.temperature import ThermometerFit
from brumel.core.sentence import Amount, joined, say
from brumel.core.settling import judge_by_readings
from brumel.core.sheet import ReadWith, Water, report, series
from brumel.core.sheet.ladders import doubted, shown_step, with_display
from brumel.core.slips import repeats
from brumel.core.working import Input, StepResult, Working
from brumel.methods.doubts import doubt_figures
from brumel.methods.field import load_field
from brumel.store.tables import Probe, Site
from brumel.work.quantities import names as quantity_names
from brumel.work.quantities.base import Quantity
from brumel.work.quantities.book import quantity_of
from brumel.work.rounds.sheet.derived import prospects, salinity, uncompensated
from brumel.work.rounds.sheet.model import Backing, OtherDisplay, Sheet, SheetLine, SheetValue
from brumel.work.rounds.sheet.plausibility import MEASURED_HERE, findings, limited, sight, slip_finding, water_findings
from brumel.work.rounds.sites import Past

#: How a site says that its live readings stand minutes apart, as the field manual has it.
BY_MANUAL = "manual"


@dataclass(frozen=True)
class SiteContext:
    """What a signal is read among: the site with its limits and ranges, its water, its past, and the moment."""

    site: Site
    water: Water
    past: Past
    now: datetime


def judge_sheet(bare: Sheet, past: Past, now: datetime) -> Sheet:
    """Judge every line with all that it is compared with at hand; no database is asked."""
    site = bare.visit.site
    first = _water(bare, site)
    known = replace(bare, water=first)
    # Conductivity first: the salt of the others follows from it.
    order = sorted(known.lines, key=lambda line: line.probe.quantity != "conductivity")
    judged: dict[uuid.UUID, SheetLine] = {}
    water = first
    for line in order:
        done = _judged(known, line, SiteContext(site, water, past, now))
        judged[line.probe.id] = done
        if line.probe.quantity == "conductivity" and line.role == "first" and done.value is not None:
            water = _salted(water, done.value, "read here")
    lines = [judged[line.probe.id] for line in known.lines]
    whole = replace(known, lines=tuple(_beside_each_other(lines, SiteContext(site, water, past, now))), water=water)
    follows, missing = prospects(whole, past, now)
    return replace(whole, follows=tuple(follows), missing=tuple(missing))


def _water(bare: Sheet, site: Site) -> Water:
    """Pressure, compensation and salt as the visit knows them: from what was kept, else the site's usual."""
    terms = site.water
    conditions = bare.conditions
    pressure = conditions.get("pressure_hpa")
    if pressure is not None:
        report = conditions.get("pressure_from") == "report"
        stated, pressure_from = float(pressure), "from a weather report" if report else MEASURED_HERE
    else:
        stated = float(oxygen.station_pressure_hpa(site.altitude_m))
        pressure_from = say("from the altitude, {altitude}", altitude=Amount(site.altitude_m, "m"))
    salt = terms.get("usual_salinity")
    water = Water(
        salinity=float(salt) if salt is not None else 0.0,
        salinity_from="the site's usual" if salt is not None else "fresh water is assumed",
        pressure_hpa=stated,
        pressure_from=pressure_from,
        compensation=terms.get("compensation", "natural"),
        coefficient_percent=float(terms.get("coefficient_percent", 2.0)),
        light=conditions.get("light"),
        cyanuric_mg_l=float(terms.get("cyanuric_mg_l") or 0.0),
        alkalinity_mg_l=terms.get("alkalinity_mg_l"),
        chloride_mg_l=terms.get("chloride_mg_l"),
        potassium_mg_l=terms.get("potassium_mg_l"),
    )
    for row in bare.kept:
        if row.depth_m != bare.depth_m:
            continue
        if row.quantity == "conductivity" and row.role == "first" and row.temperature_c is not None:
            water = replace(water, conductivity_25_us_cm=row.value)
            salt_here = salinity(uncompensated(Working.from_dict(row.working), row.value), row.temperature_c)
            if salt_here is not None:
                water = replace(water, salinity=salt_here, salinity_from="read here")
    return water


def _salted(water: Water, value: SheetValue, origin: str) -> Water:
    salted = replace(water, conductivity_25_us_cm=value.value)
    salt = salinity(uncompensated(value.working, value.value), value.temperature_c)
    return salted if salt is None else replace(salted, salinity=salt, salinity_from=origin)


def _beside_each_other(lines: list[SheetLine], context: SiteContext) -> list[SheetLine]:
    """What the values say of one another: a slip that explains an odd one, and a sheet that repeats the last one's."""
    read = {
        value.quantity: value.value
        for line in lines
        if line.role == "first" and line.value is not None
        for value in (*line.also, line.value)
    }
    seen = sight(context.site, context.past, context.now, read, context.water)
    copied = _copied(lines, context.past)
    found = []
    for line in lines:
        value = line.value
        if value is None or line.role != "first":
            found.append(line)
            continue
        slip = slip_finding(value.quantity, value.value, value.expanded_uncertainty, seen)
        more = [slip] if slip else []
        if copied:
            more.append(belief.QualityFinding("copied", "the visit before", belief.Flag.SUSPECT, copied))
            copied = ""  # said once, of the whole sheet
        found.append(replace(line, value=replace(value, findings=(*more, *value.findings))))
    return found


def _copied(lines: list[SheetLine], past: Past) -> str:
    """A question where everything that was typed is what was typed at the visit before, to the digit."""
    typed = {
        line.value.quantity: line.value.raw
        for line in lines
        if line.role == "first" and line.value is not None and line.dip is not None and line.dip.source == "typed"
    }
    before = {quantity: rows[0] for quantity, rows in past.items() if rows and quantity in typed}
    if not repeats(typed, {quantity: row.raw for quantity, row in before.items()}):
        return ""
    at = [row.at for row in before.values()]
    if max(at) - min(at) > timedelta(hours=12):  # not of one visit
        return ""
    return say(
        "All {count} values are what was typed here on {at}, to the digit. Was the sheet of that day copied?",
        count=len(typed),
        at=at[0],
    )


def _judged(whole: Sheet, line: SheetLine, context: SiteContext) -> SheetLine:
    if line.dip is None or line.trace is None or not line.trace.t_s.size:
        return line
    if line.behind.fit is None:
        return replace(line, problem=say("Nothing to read this with: {why}", why=line.behind.words))
    trace, quantity = line.trace, line.probe.quantity
    spec = load_field()[quantity]
    unit = spec.unit or quantity_names.name(quantity)
    typed = line.dip.source == "typed"
    # The newest samples, of no more than two and a half seconds: on a slow link older ones may still have moved.
    count = 1 if typed else min(5, int((trace.t_s > trace.t_s[-1] - 2.5).sum()))
    signal = float(np.median(trace.signal[-count:]))
    at = float(np.median(trace.temperature_c[-count:]))
    try:
        shown = series(quantity, line.behind.fit, trace.signal[-1200:], trace.temperature_c[-1200:], context.water)
        displayed = trace.displayed[-1] if trace.displayed else None
        step = display_step(quantity_of(quantity), trace.entered_as, displayed, float(shown[-1])) if typed else 0.0
        by_manual = context.site.water.get("settling") == BY_MANUAL
        rule = spec.criteria(unit, typed=typed, by_manual=by_manual, resolution=step)
        settling = judge_by_readings(trace.t_s[-1200:], shown, rule)
        left = settling.unsettled_u
        given = SheetSignal(signal, at, trace.entered_as, displayed, left, line.role == "second", step)
        value = value_of(context, line.probe, line.behind, given)
    except InputError as error:
        return replace(line, problem=joined(words_of(f) for f in error.faults))
    if quantity == "oxygen" and not typed and line.probe.kind != "optical":
        still = suspicion.still_water(trace.t_s, trace.signal)
        if still is not None:
            finding = belief.QualityFinding(
                "still_water", "still water", belief.Flag.SUSPECT, joined((still.sentence, still.remedy))
            )
            value = replace(value, findings=(*value.findings, finding))
    if (together := _together(whole, line, given, value, context.water)) is not None:
        value = replace(value, findings=(*value.findings, together))
    also: tuple[SheetValue, ...] = ()
    carries = any(other.probe.quantity == "temperature" and other.role == "first" for other in whole.lines)
    if quantity != "temperature" and line.role == "first" and not carries:
        also = (own_temperature(context, at),)
    return replace(line, shown=tuple(float(x) for x in shown), settling=settling, value=value, also=also)


def display_step(quantity: Quantity, entered: str, shown: float | None, value: float) -> float:
    """One step of a typed display in the reported unit; 0 where a raw signal was typed, which is finer."""
    if shown is None or not quantity.is_display(entered):
        return 0.0
    step = quantity.entries[entered].step(shown)
    # What is shown is the reported value but for a factor: mS/cm, °F, % of saturation, mg/L of the ion.
    return step if quantity.unit == "pH" or not shown else abs(step * value / shown)


def _together(
    whole: Sheet, line: SheetLine, given: SheetSignal, value: SheetValue, water: Water
) -> belief.QualityFinding | None:
    """Whether the two values of one display fit together, where both were typed."""
    other = whole.beside.get(line.probe.id)
    if other is None or given.displayed is None:
        return None
    if line.probe.quantity == "conductivity":
        return _salt_together(other, value, given.temperature_c)
    shown = {given.entered_as: given.displayed, other.entered: other.value}
    if set(shown) != {"mg_l", "percent"}:
        return None
    here = sense.OxygenTerms(water.salinity, water.pressure_hpa)
    set_to = sense.OxygenTerms(*other.set_to)
    return sense.oxygen_together(shown["mg_l"], shown["percent"], given.temperature_c, set_to, here)


def _salt_together(other: OtherDisplay, value: SheetValue, at_c: float) -> belief.QualityFinding | None:
    """Whether TDS or salinity of one display fit the conductivity beside them."""
    if other.entered == "solids":
        return sense.solids_together(value.value, other.value, other.set_to[0] if other.set_to else None)
    salt = salinity(uncompensated(value.working, value.value), at_c)
    return None if salt is None else sense.salinity_together(other.value, salt, value.value)


@dataclass(frozen=True)
class SheetSignal:
    """What a probe gave: its signal at the water's temperature [°C], and what its display showed where that was typed.

    unsettled_u : what was still to come when it was taken, as a standard uncertainty in the reported unit
    second : the second instrument's of a pair; what is said of the first is not said again
    step : one step of a typed display [reported unit]
    """

    value: float
    temperature_c: float
    entered_as: str
    displayed: float | None = None
    unsettled_u: float = 0.0
    second: bool = False
    step: float = 0.0


def value_of(context: SiteContext, probe: Probe, behind: Backing, given: SheetSignal) -> SheetValue:
    """One reading worked out: ladder, backing, findings, outcome. Raises InputError where a scale ends."""
    quantity = probe.quantity
    quantity_spec = quantity_of(quantity)
    backed = behind.calibration is not None or quantity == "temperature"
    read_with = ReadWith(behind.fit, backed, behind.origin, behind.u)
    value = report(quantity, read_with, given.value, given.temperature_c, context.water)
    value = doubted(value, _doubts(context, probe, behind, given, value.value))
    raw, raw_unit, working = given.value, quantity_spec.signal_unit, value.working
    if given.displayed is not None:
        label = quantity_spec.entries[given.entered_as].label
        raw, raw_unit = given.displayed, f"{label} displayed" if quantity == "ph" else label
        display = Input("d", "display", given.displayed, "" if quantity == "ph" else label)
        signal = StepResult(given.value, quantity_spec.signal_unit, digits=2)
        words = _STANDS.get(quantity, ("s", "signal that stands for the display", "settings taken off"))
        working = with_display(working, shown_step(*words, display, given.temperature_c, signal))
    state, backing_state = behind.state, behind.words
    if quantity == "temperature" and behind.calibration is None:
        backing_state = "no valid calibration: no check of this thermometer on record"
    ruled = limited(context.site, probe.reads, value.value, value.expanded_uncertainty, value.unit)
    tests = (
        *findings(context.site, context.past, probe.reads, value.value, context.now, value.expanded_uncertainty),
        *water_findings(quantity, context.water, context.site.altitude_m),
    )
    return SheetValue(
        probe.reads,
        value.value,
        value.unit,
        value.expanded_uncertainty,
        raw,
        raw_unit,
        given.temperature_c,
        working,
        state,
        backing_state,
        behind.calibration,
        () if given.second else tests,
        *ruled,
    )


def _doubts(context: SiteContext, probe: Probe, behind: Backing, given: SheetSignal, value: float) -> list[Doubt]:
    """What makes the reading less certain than its calibration: how it was come by, and what was still to come."""
    calibration, water = behind.calibration, context.water
    since_h = (context.now - calibration.at).total_seconds() / 3600 if calibration else 0.0
    salt = water.conductivity_25_us_cm
    of = Circumstances(value, given.temperature_c, since_h, salt, water.compensation)
    # A value lies anywhere within the step of its display: rectangular [GUM, eq. 7].
    own = (Doubt("still to come", given.unsettled_u), Doubt("step of the display", given.step / math.sqrt(12)))
    left = [doubt for doubt in own if doubt.u > 0]
    return [*doubts(probe.quantity, behind.fit, of, doubt_figures(probe.quantity)), *left]


_STANDS = {"ph": ("E", "signal that stands for the displayed pH", "E = −k(T) · (pH − 7)")}


def own_temperature(context: SiteContext, temperature_c: float) -> SheetValue:
    """The temperature a probe read beside its own quantity, where no thermometer is carried."""
    unchecked = ReadWith(ThermometerFit((), "ideal"), backed=True, origin="", u=0.1)
    value = report("temperature", unchecked, temperature_c, temperature_c, Water())
    return SheetValue(
        "temperature",
        temperature_c,
        "°C",
        value.expanded_uncertainty,
        temperature_c,
        "°C",
        temperature_c,
        value.working,
        "unbacked",
        "no valid calibration: no check of this thermometer on record",
        None,
        findings(context.site, context.past, "temperature", temperature_c, context.now, value.expanded_uncertainty),
        *limited(context.site, "temperature", temperature_c, value.expanded_uncertainty, "°C"),
    )
