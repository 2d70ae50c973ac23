"""Maintenance led step by step: what was seen on the way is recorded, and its wait begins, or the probe stays off Bench."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from sqlalchemy import select

from brumel.core.errors import InputError
from brumel.core.sentence import joined, say
from brumel.methods.guides import Guide, battery_guide, guides_for, seen_by, stopping
from brumel.store.tables import Maintenance, Probe, SpareUse
from brumel.work.desk import NotFound, Refused, Write, Written, clean_reason, writes
from brumel.work.kit import inspections, maintenance, meters, probes
from brumel.work.kit.inspections import findings, last_inspection
from brumel.work.kit.meters import raise_faults


@dataclass(frozen=True)
class GuidedMaintenance(Written):
    """The probe, and what keeps it off Bench in words, empty where its wait began."""

    blocked: str = ""


def guide_of(probe: Probe, what: str) -> Guide:
    """The guide to one kind of maintenance of this probe. Raises NotFound where there is none."""
    guide = guides_for(probe.quantity, probe.kind).get(what)
    if guide is None:
        raise NotFound("There is no guide to that for this kind of probe.")
    return guide


def _answered(guide: Guide, answers: Mapping[str, str]) -> dict[str, str]:
    """The answers as they are kept. Raises every question without one at once."""
    faults, kept = [], {}
    for question in guide.questions:
        answer = answers.get(question.key, "")
        if answer not in {a.key for a in question.answers}:
            faults.append(InputError(question.key, f"{question.question} Choose what you see."))
        kept[question.key] = answer
    raise_faults(faults)
    return kept


@writes("probe.guided", GuidedMaintenance)
def record_guided(
    w: Write, *, probe_id: str, what: str, answers: Mapping[str, str], fresh: bool = True, note: str = ""
) -> GuidedMaintenance:
    """A guided maintenance is done. What was seen counts as an inspection of those places; a fault that keeps the probe off
    Bench does so at once, and no wait begins: the work is not finished."""
    probe = probes.probe_of(w.session, probe_id)
    guide = guide_of(probe, what)
    maintenance.refuse_on_bench(w, probe)
    kept = _answered(guide, answers)
    spec = maintenance.maintenance_kinds(probe)[what]
    if spec.fresh and not fresh:
        raise Refused(f"Say that it is a new {spec.fresh}: a used one must not go on again.")
    before, seen = last_inspection(w.session, probe.id), seen_by(guide, kept)
    words = clean_reason(note, required=False)
    stops = stopping(guide, kept)
    blocking = stops + [f.words for f in findings(probe, seen) if f.blocks]
    if seen:
        # Other places keep what was last seen of them: a bent pin stays bent when the membrane is new.
        inspections.record_look(w, probe, {**(before.findings if before else {}), **seen}, words, stops)
    if not blocking:
        maintenance.begin_wait(w, probe, what, words, kept)
    w.record(f"probe:{probe.id}", {"what": what, "answers": kept, "blocked": blocking, "note": words})
    return GuidedMaintenance(str(probe.id), str(joined(blocking, ", ")))


def answers_in_words(probe: Probe, done: Maintenance) -> list[str]:
    """What was seen on the way through a guided maintenance: "Is it taut? taut, no fold, no hole"."""
    guide = guides_for(probe.quantity, probe.kind).get(done.what)
    if guide is None:
        return []
    return [
        f"{question.question} {answer.words}"
        for question in guide.questions
        for answer in question.answers
        if done.answers.get(question.key) == answer.key
    ]


@dataclass(frozen=True)
class BatteryReplaced:
    """The meter, and the probes that must wait because they lost their supply."""

    meter: str
    waiting: tuple[str, ...]


@writes("meter.battery", BatteryReplaced)
def record_battery_change(w: Write, *, meter_id: str, note: str, answers: Mapping[str, str]) -> BatteryReplaced:
    """The meter's battery was changed: every probe that lost its polarising voltage starts its wait."""
    meter = meters.meter_of(w.session, meter_id)
    guide = battery_guide()
    kept, words = _answered(guide, answers), clean_reason(note)
    seen = ", ".join(a.words for q in guide.questions for a in q.answers if kept[q.key] == a.key)
    meter.battery = str(say("{words}; contacts and seal {seen} ({at:date})", words=words, seen=seen, at=w.now))
    waiting = []
    for probe in w.session.scalars(select(Probe).where(Probe.meter_id == meter.id, Probe.retired_at.is_(None))):
        if "power" in maintenance.maintenance_kinds(probe) and maintenance.wait_h(probe, "power") > 0:
            maintenance.begin_wait(w, probe, "power", "battery of the meter changed")
            waiting.append(probe.name)
    w.session.add(SpareUse(spare=f"battery-{meter.id}", at=w.now, by_id=w.actor.id))
    w.record(f"meter:{meter.id}", {"note": words, "answers": kept, "waiting": waiting})
    return BatteryReplaced(str(meter.id), tuple(waiting))
