"""Recording the readings of a sheet: what has settled, what is odd and answered for, and a second method's result."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace

from brumel.core.checking import Door
from brumel.core.quantity_table import ON_SHEET, SecondMethodRow
from brumel.core.sentence import as_evidence, say
from brumel.core.working import Ladder, StepResult
from brumel.store.tables import Reading
from brumel.work.desk import MovedOn, Refused, Write, Written, clean_reason, writes
from brumel.work.quantities import names as quantity_names
from brumel.work.rounds.sheet.answers import Answers
from brumel.work.rounds.sheet.entry import TypedSheet, checked_depth, locked_sheet, type_on
from brumel.work.rounds.sheet.model import Sheet, SheetLine, SheetValue
from brumel.work.rounds.sheet.plausibility import findings, limited, sight, slip_finding
from brumel.work.rounds.sheet.rows import follow, row_of
from brumel.work.rounds.sites import past_values

#: What a second method by hand may give, with its usual expanded uncertainty (common practice, no source).
BY_HAND = {key: row.second_method for key, row in ON_SHEET.items() if row.second_method is not None}


#: What a sheet has: quantity and depth [m].
Given = set[tuple[str, float | None]]


@dataclass(frozen=True)
class ReadingsKept:
    """Ids of the readings that were recorded."""

    readings: tuple[str, ...]


@dataclass(frozen=True)
class AsAsked:
    """What whoever keeps readings has said: that unsettled ones may be kept, and why odd ones may be so."""

    early: bool
    said: Answers


def vouched(whole: Sheet) -> bool:
    """Whether every reading that waits was watched standing still."""
    waiting = whole.waiting
    return bool(waiting) and all(line.probe.id in whole.still for line in waiting)


@writes("visit.take", ReadingsKept)
def take(
    w: Write,
    *,
    visit_id: str,
    dip_id: str,
    early: bool = False,
    reason: str = "",
    seen: int | None = None,
    answers: Mapping[str, str] | None = None,
) -> ReadingsKept:
    """Keep the reading of one dip, up to the sample the page had `seen`, and what follows from it.

    answers : why what is odd may be so, by the question's code; `reason` is said of what has no answer of its own
    early : what has not settled is kept too. Raises Unanswered
    """
    sheet = locked_sheet(w, visit_id, {dip_id: seen})
    line = sheet.of_dip(dip_id)
    if line is None:
        raise MovedOn("These readings were taken, or the probe was dipped again, in another window.")
    said = Answers.given(answers, reason)
    kept = _keep(w, sheet, [line], AsAsked(early, said))
    said.check(sheet.asked_of(line) + follow(w, sheet.visit, said))
    detail = {"readings": {r.quantity: r.value for r in kept}, "reason": said.words}
    w.record(f"visit:{visit_id}", detail)
    return ReadingsKept(tuple(str(r.id) for r in kept))


@writes("visit.take_all", ReadingsKept)
def take_all(
    w: Write,
    *,
    visit_id: str,
    early: bool = False,
    reason: str = "",
    dips: Mapping[str, int | None] | None = None,
    answers: Mapping[str, str] | None = None,
) -> ReadingsKept:
    """Keep every line that has settled (all of them with `early`).

    answers : why what is odd may be so, by the question's code; `reason` is said of what has no answer of its own
    dips : those the page showed, each with the last sample it had shown; what came later is neither judged nor kept
    """
    said = Answers.given(answers, reason)
    kept = keep_settled(w, visit_id, AsAsked(early, said), dips)
    detail = {"readings": {r.quantity: r.value for r in kept}, "reason": said.words}
    w.record(f"visit:{visit_id}", detail)
    return ReadingsKept(tuple(str(r.id) for r in kept))


def keep_settled(
    w: Write,
    visit_id: str,
    asked: AsAsked,
    dips: Mapping[str, int | None] | None = None,
    probes: Collection[str] | None = None,
) -> list[Reading]:
    """Keep every line that has settled, inside a write; returns the readings made. Raises Unanswered.

    dips, probes : those alone, where they are named
    """
    sheet = locked_sheet(w, visit_id, dips)
    lines = [line for line in sheet.lines if line.dip and line.value and (not dips or str(line.dip.id) in dips)]
    lines = [line for line in lines if probes is None or str(line.probe.id) in probes]
    ready = [line for line in lines if asked.early or _settled(sheet, line)]
    if not lines:
        raise MovedOn("These readings were taken, or the probes were dipped again, in another window.")
    if not ready:
        raise Refused("None has settled yet. Wait, or record them early; it is recorded as early.")
    kept = _keep(w, sheet, ready, asked)
    questions = [q for line in ready for q in sheet.asked_of(line)]
    asked.said.check(questions + follow(w, sheet.visit, asked.said))
    return kept


def _settled(whole: Sheet, line: SheetLine) -> bool:
    if line.settling is not None and line.settling.settled:
        return True
    return line.dip is not None and line.dip.source == "typed" and line.probe.id in whole.still


def _keep(w: Write, whole: Sheet, ready: Sequence[SheetLine], asked: AsAsked) -> list[Reading]:
    """The rows of these lines, one after another."""
    given = {(r.quantity, r.depth_m) for r in whole.kept}
    rows = [row for line in ready for row in _keep_line(w, whole, line, given, asked)]
    w.session.flush()
    return rows


def _keep_line(w: Write, whole: Sheet, line: SheetLine, given: Given, asked: AsAsked) -> list[Reading]:
    """The rows of one line: its value, and the temperature read beside it where no thermometer is carried.

    given : what the sheet has by now, by quantity and depth; what is kept here is put to it
    """
    if line.problem or line.settling is None or line.value is None or line.dip is None:
        raise Refused(line.problem or "There is no reading to take yet.")
    settled = _settled(whole, line)
    if not settled and not asked.early:
        raise Refused(
            say("Not settled: {why} Wait, or take it early; it is recorded as early.", why=line.settling.sentence)
        )
    settling = {**as_evidence(line.settling), "state": line.settling.state.value, "early": not settled}
    if settled and not line.settling.settled:
        settling |= {"vouched": True, "sentence": "Stood still on the display, by the technician's own eye."}
    rows = []
    have = {(r.quantity, r.depth_m) for r in whole.kept if r.role == "first"}
    for value in (line.value, *line.also):
        if value is not line.value and len(whole.lines) > 1 and (value.quantity, line.dip.depth_m) in given:
            continue  # another probe has given the temperature already
        row = row_of(w, whole.visit, value, settling, asked.said)
        row.dip_id, row.entered_as = line.dip.id, "live" if line.dip.source == "live" else "typed"
        row.probe_id, row.depth_m = line.probe.id, line.dip.depth_m
        again = (value.quantity, line.dip.depth_m) in have
        row.role = "second" if line.role == "second" else "repeat" if again else "first"
        w.session.add(row)
        given.add((row.quantity, row.depth_m))
        rows.append(row)
    return rows


@writes("visit.record", ReadingsKept)
def record_typed(
    w: Write, *, visit_id: str, typed: TypedSheet, answers: Mapping[str, str] | None = None
) -> ReadingsKept:
    """What the displays showed once they stood still, typed and recorded as one thing, or not at all.

    answers : why what is odd may be so, by the question's code. Raises InputErrors; Unanswered
    """
    said = Answers.given(answers)
    kept = record_on(w, visit_id, typed, said)
    detail = {"readings": {r.quantity: r.value for r in kept}, "reason": said.words}
    w.record(f"visit:{visit_id}", detail)
    return ReadingsKept(tuple(str(r.id) for r in kept))


def record_on(w: Write, visit_id: str, typed: TypedSheet, said: Answers) -> list[Reading]:
    """The same inside a write; returns the readings made."""
    type_on(w, visit_id, replace(typed, still=True))
    typed_now = {row.probe_id for row in typed.rows}
    return keep_settled(w, visit_id, AsAsked(early=False, said=said), probes=typed_now)


@dataclass(frozen=True)
class HandResult:
    """What a second method gave, and which method it was; the depth in metres.

    answers : why what is odd may be so, by the question's code; `reason` is said of what has no answer of its own
    """

    quantity: str
    value: float
    method: str
    depth_m: float | None = None
    reason: str = ""
    answers: Mapping[str, str] | None = None


@writes("visit.by_hand", Written)
def by_hand(w: Write, *, visit_id: str, result: HandResult) -> Written:
    """A second method's result typed in: total chlorine by reagent, or an ion by a test. Named, and never a probe's."""
    sheet = locked_sheet(w, visit_id)
    door = Door()
    quantity = result.quantity
    door.name("quantity", quantity, BY_HAND)
    usual = BY_HAND.get(quantity, SecondMethodRow(0.1, 0, 50))
    _, low, high = usual
    number = door.number("value", result.value, low, high)
    door.close()
    how = clean_reason(result.method)
    depth = checked_depth(result.depth_m)
    ladder = Ladder("By a second method")
    ladder.step("c", quantity_names.name(quantity), how, StepResult(number, "mg/L"), "reading")
    expanded_uncertainty = usual.at(number)
    ladder.step(
        "U",
        "expanded uncertainty, k = 2",
        "usual of such a test",
        StepResult(expanded_uncertainty, "mg/L"),
        "common practice, no source",
    )
    site_ = sheet.visit.site
    past = past_values(w.session, site_, before=sheet.visit.at, depth_m=depth)
    tests = findings(site_, past, quantity, number, w.now, expanded_uncertainty)
    read = {r.quantity: r.value for r in sheet.kept if r.role == "first" and r.depth_m == depth} | {quantity: number}
    slip = slip_finding(quantity, number, expanded_uncertainty, sight(site_, past, w.now, read, sheet.water))
    tests = (slip, *tests) if slip else tests
    at_c = next((r.temperature_c for r in sheet.kept if r.temperature_c is not None), 20.0)
    row_value = SheetValue(
        quantity,
        number,
        "mg/L",
        expanded_uncertainty,
        number,
        "mg/L",
        at_c,
        ladder.done(),
        "by hand",
        f"by hand: {how}",
        None,
        tests,
        *limited(site_, quantity, number, expanded_uncertainty, "mg/L"),
    )
    said = Answers.given(result.answers, result.reason)
    row = row_of(w, sheet.visit, row_value, {}, said)
    row.entered_as, row.depth_m = "by hand", depth
    taken = any(r.quantity == quantity and r.role == "first" and r.depth_m == depth for r in sheet.kept)
    row.role = "second" if taken else "first"
    w.session.add(row)
    w.session.flush()
    said.check(row_value.questions() + follow(w, sheet.visit, said))
    w.record(f"visit:{visit_id}", {quantity: number, "method": how})
    return Written(str(row.id))
