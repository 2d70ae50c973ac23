"""Typed runs and closing checks that were made without a signal: worked out on sending, each step at its own time."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta

from brumel.core.errors import InputError
from brumel.core.sentence import Amount, joined, say
from brumel.core.verdict import CriterionRow, Outcome
from brumel.store.tables import Calibration
from brumel.work import bench
from brumel.work.bench import closing_checks
from brumel.work.bench.conditions import Conditions
from brumel.work.desk import Refused, Write, inside, object_id, writes
from brumel.work.questions import Question, Unanswered
from brumel.work.rounds.offline import AHEAD, OLDEST

#: What may be queued: a calibration from typed displays, or a closing check.
PURPOSES = ("calibration", "closing")

#: Most values typed in one cup.
MOST_VALUES = 12


@dataclass(frozen=True)
class QueuedCup:
    """What was read in one cup.

    at : when the probe went in; taken_at : when the cup was done
    shown : the displays, each with the seconds since the probe went in and the cup's temperature [°C]
    answer : why it was taken, where something spoke against it
    reference, reference_u : what an instrument beside the probe showed, with its expanded uncertainty, where the step asks
    """

    step: str
    at: datetime
    taken_at: datetime
    shown: Sequence[bench.TypedValue]
    answer: str = ""
    reference: float | None = None
    reference_u: float | None = None


@dataclass(frozen=True)
class QueuedRun:
    """A typed run as it waited in the phone.

    method_key, conditions : of a calibration; cups : the lot of each step, or the choices of a closing check in their order
    use : to be put into use where it is fit; a verdict short of that is asked about
    answers : what was said to questions of an earlier sending, by their code
    """

    purpose: str
    probe_id: str
    started_at: datetime
    finished_at: datetime
    cups: Mapping[str, str]
    read: Sequence[QueuedCup]
    method_key: str = ""
    conditions: Conditions = field(default_factory=Conditions)
    use: bool = True
    answers: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class RunSent:
    """What a queued run came to: the run's id, and its result in words."""

    run: str
    words: str


@writes("run.queued", RunSent)
def send_run(w: Write, run: QueuedRun) -> RunSent:
    """A run of the queue, taken in whole or not at all.

    Raises Unanswered with every cup something speaks against, and with the verdict where it is short of fit for use;
    InputError for times that cannot be; Refused and MovedOn as on Bench.
    """
    _check_times(w, run)
    begun = replace(w, now=run.started_at)
    if run.purpose == "closing":
        start = inside(closing_checks.start)
        run_id = start(begun, probe_id=run.probe_id, source="typed", cups=list(run.cups.values())).id
    else:
        run_id = inside(bench.start)(
            begun,
            probe_id=run.probe_id,
            method_key=run.method_key,
            source="typed",
            cups=run.cups,
            conditions=run.conditions,
        ).id
    asked = [question for cup in run.read for question in _take(w, run_id, cup, run.answers)]
    if asked:
        raise Unanswered(asked, "Say why it was taken all the same, or drop the run and do it again.")
    ended = replace(w, now=run.finished_at)
    turn = bench.load_run(w.session, run_id).turn
    if run.purpose == "closing":
        closed = inside(closing_checks.finish)(ended, run_id=run_id, turn=turn).id
        return RunSent(run_id, str(closing_checks.closing(w.session, closed).sentence))
    return RunSent(run_id, _finish(ended, run, run_id, turn))


def _check_times(w: Write, run: QueuedRun) -> None:
    if run.purpose not in PURPOSES:
        raise InputError("purpose", "A queued run is a calibration or a closing check.", value=run.purpose)
    if not run.read:
        raise InputError("read", "No cup was read in this run.")
    times = [run.started_at, *(t for cup in run.read for t in (cup.at, cup.taken_at)), run.finished_at]
    if any(t.tzinfo is None for t in times):
        raise InputError("at", "The times of this run have no zone.")
    if times != sorted(times):
        raise InputError("at", "The times of this run are out of order. Was the phone's clock set meanwhile?")
    if times[-1] > w.now + AHEAD:
        raise InputError("at", say("This was read at {at}, which is in the future. Is the clock right?", at=times[-1]))
    if times[0] < w.now - OLDEST:
        days = OLDEST.days
        raise InputError(
            "at", say("This was read at {at}, over {days} days ago; ask the lead.", at=times[0], days=days)
        )


def _take(w: Write, run_id: str, cup: QueuedCup, answers: Mapping[str, str]) -> list[Question]:
    """One cup: dipped, typed and taken at its own times; what it asks where that was not answered."""
    if not 1 <= len(cup.shown) <= MOST_VALUES:
        raise InputError(cup.step, f"A cup takes 1 to {MOST_VALUES} typed values.")
    step, turn = cup.step, bench.load_run(w.session, run_id).turn
    inside(bench.dip)(replace(w, now=cup.at), run_id=run_id, step=step, turn=turn)
    type_one = inside(bench.type_reading)
    for value in cup.shown:
        then = replace(w, now=cup.at + timedelta(seconds=value.after_s or 0.0))
        type_one(then, run_id=run_id, step=step, turn=turn, typed=value)
    accept, taken = inside(bench.accept), replace(w, now=cup.taken_at)
    answer = answers.get(f"cup:{step}") or cup.answer
    how = bench.Acceptance(early=True, answer=answer, reference=cup.reference, reference_u=cup.reference_u)
    try:
        accept(taken, run_id=run_id, step=step, turn=turn, how=how)
    except Unanswered as error:  # the cups behind are looked at all the same, so that everything is asked at once
        accept(taken, run_id=run_id, step=step, turn=turn, how=replace(how, answer="asked"))
        return list(error.questions)
    return []


def _finish(ended: Write, run: QueuedRun, run_id: str, turn: int) -> str:
    """The verdict, put into use where it is fit or where somebody says why; in words."""
    state = bench.load_run(ended.session, run_id)
    if state.current is not None:
        raise Refused(f"“{state.current.spec.title}” was not read in this run. Drop it and do it again.")
    result = bench.run_result(ended.session, state)
    outcome, why = result.verdict.outcome, run.answers.get("verdict", "")
    if outcome is not Outcome.FIT and not why:
        care = run.use and outcome is not Outcome.NOT
        then = " It is put into use with your reason." if care else " It is not put into use."
        rows = [_row(r) for r in result.verdict.rows if r.outcome is outcome]
        short = result.problem or joined(rows, "; ") + "."
        asked = say("The verdict is “{outcome}”: {why}{then}", outcome=outcome.words, why=short, then=then)
        raise Unanswered([Question("verdict", asked)], "Say what you make of it.")
    use = run.use and outcome is not Outcome.NOT
    words = "" if outcome is Outcome.FIT else why
    made = inside(bench.finish)(ended, run_id=run_id, turn=turn, use=use, words=words).calibration
    if made is None:
        return f"No calibration came of it: {result.problem}"
    number = ended.session.get_one(Calibration, object_id(made, "calibration")).number
    return f"Calibration {number}: {outcome.words}, {'in use' if use else 'not in use'}."


def _row(row: CriterionRow) -> str:
    if row.value is None:
        return row.criterion
    value = Amount(row.value, row.unit, f".{row.digits}f")
    return say("{criterion} {value}, limit {limit}", criterion=row.criterion, value=value, limit=row.limit)
