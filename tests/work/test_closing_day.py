"""The end of the day: closing checks, what they do to a span, affected results, opening again, signing."""

import math
import uuid
from concurrent.futures import ThreadPoolExecutor

import pytest
from sqlalchemy import select

from brumel.core import drift
from brumel.core.errors import InputError
from brumel.store.records import Decision, Unsigned
from brumel.store.tables import Reading
from brumel.work import bench, kit, rounds, simulator
from brumel.work.bench import closing_checks
from brumel.work.bench.conditions import Conditions
from brumel.work.demo.load import PASSWORD
from brumel.work.desk import MovedOn, NotAllowed, Refused
from brumel.work.records import affected, decisions, review, signing
from brumel.work.rounds import outings, past
from tests.work import helpers as h

ILKA = "Ilka Torvend"


@pytest.fixture
def things(desk):
    return h.Things(desk)


def standing(desk, quantity="ph"):
    with desk.read() as session:
        rows = session.scalars(select(Reading).where(Reading.quantity == quantity).order_by(Reading.version))
        return sorted({r.root_id: r for r in rows}.values(), key=lambda r: r.at)


def a_day(desk, clock, things, probe="A1", sites=("raceway", "lagoon"), hours=2, **body):
    """Calibrated, two waters read, and the probe then drifted by what `body` says."""
    made = h.calibrate(desk, clock, things)
    for site in sites:
        clock.on(hours=hours)
        h.visit(desk, clock, things, site, probe, early=True, reason="Known here")
    clock.on(hours=hours)
    with desk.sessions.begin() as session:
        key = f"probe:{things.probes[probe]}"
        simulator.set_truth(session, key, simulator.truth(session, key) | body)
    return made


def close(desk, clock, things, probe="A1", cups=("N7-121",), source="live"):
    wanted = [c if ":" in c else f"lot:{things.lots[c]}" for c in cups]
    run = closing_checks.start(desk, things.ansa, h.key(), probe_id=things.probes[probe], source=source, cups=wanted).id
    h.take_all(desk, clock, things, run)
    with desk.read() as session:
        turn = bench.load_run(session, run).turn
    with pytest.raises(Refused, match="closing check; record it as one"):
        bench.finish(desk, things.ansa, h.key(), run_id=run, turn=turn, use=True)
    return closing_checks.finish(desk, things.ansa, h.key(), run_id=run, turn=turn).id


def rule(desk, who, closing, decision, reason="Looked at the span", name=ILKA):
    return decisions.decide(desk, who, h.key(), closing_id=closing, decision=decision, reason=reason, name=name)


def test_a_probe_that_held_brackets_its_day(desk, clock, things):
    a_day(desk, clock, things)
    found = close(desk, clock, things)
    with desk.read() as session:
        row = closing_checks.closing(session, found)
        assert row.holds
        assert "It holds" in row.sentence
        assert len(decisions.effects(session, row, "bracket")) == 2
    with pytest.raises(NotAllowed):
        rule(desk, things.ansa, found, "bracket")
    with pytest.raises(Refused, match="nothing to correct"):
        rule(desk, things.ilka, found, "correct")
    with pytest.raises(Refused, match="Sign with your own name"):
        rule(desk, things.ilka, found, "bracket", name="Ansa Merrik")
    rule(desk, things.ilka, found, "bracket", reason="")
    assert [(r.backing, r.version) for r in standing(desk)] == [("bracketed", 2)] * 2
    with pytest.raises(MovedOn, match="decided about"):
        rule(desk, things.ilka, found, "doubt")
    with desk.read() as session:
        assert kit.last_cups(session, kit.probe_of(session, things.probes["A1"]).id, "ph-7-4-10")[
            "neutral"
        ]  # not the closing's


def test_a_past_outing_keeps_its_notes_and_closings_in_reach(desk, clock, things):
    planned = h.a_round(desk, "Farm and lido")
    out = outings.start(desk, things.ansa, h.key(), round_id=str(planned.id)).id
    with desk.read() as session:
        assert [(row.readings, row.open) for row in past.outings_gone(session, 1)[0] if row.sites] == []
    h.calibrate(desk, clock, things)
    visit = rounds.start_visit(
        desk,
        things.ansa,
        h.key(),
        site_id=things.sites["raceway"],
        probes=[things.probes["A1"]],
        source="live",
        outing_id=out,
    ).id
    dip = rounds.dip(desk, things.ansa, h.key(), visit_id=visit).dip
    clock.on(seconds=70)
    simulator.pump(desk)
    rounds.take(desk, things.ansa, h.key(), visit_id=visit, dip_id=dip)
    rounds.say(desk, things.ansa, h.key(), visit_id=visit, note="Foam at the inflow")
    outings.end(desk, things.ansa, h.key(), outing_id=out)
    clock.on(hours=1)
    found = close(desk, clock, things)
    with desk.read() as session:
        rows, pages = past.outings_gone(session, 1)
        assert (str(rows[0].outing.id), rows[0].sites, rows[0].readings, rows[0].open, pages) == (out, 1, 2, 1, 1)
        kept = past.kept_on(session, [uuid.UUID(visit)])
        assert [n.body["text"] for n in kept.notes[uuid.UUID(visit)]] == ["Foam at the inflow"]
        assert [str(c.id) for c in kept.closings] == [found]
        assert past.outings_gone(session, 9)[0] == []


def test_a_check_says_nothing_of_what_its_calibration_did_not_stand_behind(desk, clock, things):
    a_day(desk, clock, things, hours=1)
    clock.on(hours=40)  # the calibration has run out
    h.visit(desk, clock, things, "raceway", "A1", early=True, reason="Known here")
    assert [r.backing for r in standing(desk)] == ["open", "open", "unbacked"]
    rule(desk, things.ilka, close(desk, clock, things), "bracket")
    assert [r.backing for r in standing(desk)] == ["bracketed", "bracketed", "unbacked"]
    kit.record_maintenance(desk, things.ansa, h.key(), probe_id=things.probes["A1"], what="cleaned", note="Green film")
    with pytest.raises(Refused, match="says nothing of the span before"):
        close(desk, clock, things)


def test_a_drifted_probe_is_corrected_in_time_graded_and_can_be_opened_again(desk, clock, things):
    a_day(desk, clock, things, offset_mv=4.2 - 20.0)  # about 0.35 pH
    found = close(desk, clock, things)
    with desk.read() as session:
        row = closing_checks.closing(session, found)
        assert not row.holds
        error = row.checks[0].read - row.checks[0].expected
        start, end = row.calibration.at, row.at
        before = {r.id: r for r in decisions.span(session, row)}
        trust = kit.trust_of(session, kit.probe_of(session, things.probes["A1"]), clock())
    assert 0.25 < abs(error) < 0.5
    assert not trust.valid  # what it reads from now on is unbacked until it is calibrated again
    assert "did not hold" in trust.words
    with pytest.raises(Refused, match="cannot be called bracketed"):
        rule(desk, things.ilka, found, "bracket")
    with pytest.raises(Exception, match="Reason"):
        rule(desk, things.ilka, found, "correct", reason=" ")
    rule(desk, things.ilka, found, "correct")
    now = standing(desk)
    assert {r.backing for r in now} == {"corrected"}
    for r in now:
        old = next(b for b in before.values() if b.root_id == r.root_id)
        share = (r.at - start) / (end - start)  # USGS-TM1D3: linear in time between the two checks
        assert r.value == pytest.approx(old.value - error * share, abs=1e-6)
        graded = drift.grade(error * share, closing_checks.criteria("ph"))
        assert r.grade == graded
        steps = r.working["steps"]
        assert [s["result"] for s in steps if s["symbol"] == "v"] == pytest.approx([r.value])
        # What the error found may still do joins the uncertainty, half of it at least, and is named.
        u_before = next(s["result"] for s in reversed(steps[:-1]) if s["symbol"] == "U")
        error = next(s["result"] for s in steps if s["symbol"] == "e")
        joins = drift.doubt_share(share, corrected=True) * error
        assert r.expanded_uncertainty == steps[-1]["result"] == pytest.approx(math.hypot(u_before, joins))
        assert r.expanded_uncertainty >= math.hypot(u_before, error / 2)
    with desk.read() as session:
        decision = decisions.decision_of(session, row.id)
        assert signing.open_closings(session) == []
    undo = dict(decision_id=str(decision.id), reason="The buffer was the wrong cup", name=ILKA)
    decisions.reopen(desk, things.ilka, h.key(), **undo)
    with desk.read() as session:
        assert [c.id for c in signing.open_closings(session)] == [row.id]  # it waits for the lead again
    again = standing(desk)
    assert [(r.version, r.backing, r.decision_id) for r in again] == [(3, "open", None)] * 2
    assert [r.value for r in again] == pytest.approx([b.value for b in sorted(before.values(), key=lambda b: b.at)])
    with pytest.raises(MovedOn):
        decisions.reopen(desk, things.ilka, h.key(), **undo)
    rule(desk, things.ilka, found, "reject", reason="Cracked bulb found")
    assert {r.backing for r in standing(desk)} == {"not reported"}
    with desk.read() as session:
        kinds = [r.kind for r in decisions.decisions_about(session, row.id)]
        assert signing.open_closings(session) == []
        assert kinds == ["closing", "reopened", "closing"]
        past = rounds.past_values(session, rounds.site_of(session, things.sites["raceway"]))
        assert past["ph"] == []  # a value that is not reported is no history


def test_conductivity_is_corrected_in_proportion_and_what_follows_follows(desk, clock, things):
    run = h.start(desk, things, "A3", "ec-air-one", standard="E14-055")
    h.take_all(desk, clock, things, run)
    h.finish(desk, things, run)
    clock.on(hours=2)
    h.visit(desk, clock, things, "lagoon", "A3", early=True, reason="Known here")
    clock.on(hours=2)
    with desk.sessions.begin() as session:
        key = f"probe:{things.probes['A3']}"
        body = simulator.truth(session, key)
        simulator.set_truth(session, key, body | {"cell_constant": body["cell_constant"] * 1.06})
    found = close(desk, clock, things, "A3", ("E14-055",))
    (was,), (salt,) = standing(desk, "conductivity"), standing(desk, "salinity")
    rule(desk, things.ilka, found, "correct")
    (now,), (follows,) = standing(desk, "conductivity"), standing(desk, "salinity")
    with desk.read() as session:
        row = closing_checks.closing(session, found)
    ratio = row.checks[0].read / row.checks[0].expected
    share = (was.at - row.calibration.at) / (row.at - row.calibration.at)
    assert now.value == pytest.approx(was.value - (was.value - was.value / ratio) * share, rel=1e-9)
    assert (follows.version, follows.backing) == (salt.version + 1, "unbacked")  # its thermometer was never checked
    assert (follows.value - salt.value) * (now.value - was.value) > 0


def test_a_bad_lot_is_traced_to_every_reading_and_signed_records_change_by_version(desk, clock, things):
    a_day(desk, clock, things)
    rows = standing(desk)
    sign = dict(readings=[str(r.id) for r in rows], password=PASSWORD)
    with pytest.raises(NotAllowed):
        signing.sign(desk, things.ansa, h.key(), **sign)
    with pytest.raises(Refused, match="Nothing is left to sign"):
        signing.sign(desk, things.ilka, h.key(), readings=[], password=PASSWORD)
    with pytest.raises(InputError, match="Password is not yours"):
        signing.sign(desk, things.ilka, h.key(), **sign | {"password": PASSWORD + "x"})
    act = signing.sign(desk, things.ilka, h.key(), **sign)
    assert act.signed == 2
    with desk.read() as session:
        assert not set(session.scalars(select(Unsigned.reading_id))) & {r.id for r in rows}
        assert {r.id for r in signing.signing(session, act.id)[1]} == {r.id for r in rows}  # exactly these versions
        made, touched = affected.touched(session, "lot", kit.lots_on_shelf(session, clock())[0].lot.id)
    lot = things.lots["N7-121"]
    say = dict(kind="lot", subject=lot, reason="Read 6.7 beside a fresh bottle", name=ILKA)
    with pytest.raises(Refused, match="cannot correct them"):
        affected.decide_affected(desk, things.ilka, h.key(), decision="correct", **say)
    affected.decide_affected(desk, things.ilka, h.key(), decision="doubt", **say)
    after = standing(desk)
    assert [(r.backing, r.version) for r in after] == [("doubtful", 2)] * 2
    assert "a lot found bad" in after[0].backing_words
    with desk.read() as session:
        assert signing.signature(session, rows[0].id).name == ILKA  # the old version stays signed
        assert signing.signature(session, after[0].id) is None
        assert set(session.scalars(select(Unsigned.reading_id))) >= {r.id for r in after}
        assert sum(v.doubtful for of in review.waiting(session)[0] for v in of.visits) == 4  # and the thermometer's
        decision = session.scalar(select(Decision).where(Decision.kind == "lot"))
    with pytest.raises(MovedOn, match="newer version"):
        signing.sign(desk, things.ilka, h.key(), **sign)
    decisions.reopen(
        desk, things.ilka, h.key(), decision_id=str(decision.id), reason="It was the other bottle", name=ILKA
    )
    assert [(r.backing, r.version) for r in standing(desk)] == [("open", 3)] * 2


def test_a_closing_names_what_is_wrong_and_oxygen_closes_in_its_own_vessel(desk, clock, things):
    start = dict(probe_id=things.probes["B1"], source="typed", cups=[f"lot:{things.lots['N7-121']}"])
    with pytest.raises(Refused, match="no calibration whose span"):
        closing_checks.start(desk, things.ansa, h.key(), **start)
    run = h.start_with(
        desk, things, "A5", "do-saturated-air", Conditions(pressure_from="altitude", altitude_m=96.0, water_c=9.0)
    )
    h.take_all(desk, clock, things, run)
    h.finish(desk, things, run)
    with desk.read() as session:
        offers = closing_checks.offers(session, kit.probe_of(session, things.probes["A5"]), clock())
    assert offers[0].value.startswith("step:")
    for cups in ([], ["lot:x"], ["step:nowhere"]):
        with pytest.raises(Exception, match=r"[Cc]hoose|no such|not a place"):
            closing_checks.start(desk, things.ansa, h.key(), probe_id=things.probes["A5"], source="live", cups=cups)
    found = close(desk, clock, things, "A5", (offers[0].value,))
    with desk.read() as session:
        assert closing_checks.closing(session, found).holds


def test_two_decisions_at_once_take_turns_and_only_one_stands(desk, clock, things):
    a_day(desk, clock, things, offset_mv=4.2 - 20.0)
    found = close(desk, clock, things)
    before = standing(desk)

    def decide(decision):
        try:
            return rule(desk, things.ilka, found, decision)
        except MovedOn:
            return None

    with ThreadPoolExecutor(4) as pool:
        made = list(pool.map(decide, ["correct", "doubt", "reject", "doubt"]))
    assert sum(m is not None for m in made) == 1
    now = standing(desk)
    assert [r.version for r in now] == [2] * len(before)
    assert len({r.backing for r in now}) == 1
    with desk.read() as session:
        assert len(decisions.decisions_about(session, uuid.UUID(found))) == 1
