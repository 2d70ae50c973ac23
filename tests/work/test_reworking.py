"""What an earlier version wrote wrongly is shown, worked out anew as new versions, and comes back to review."""

import uuid

import pytest
from click.testing import CliRunner
from sqlalchemy import func, select

from brumel.cli import main
from brumel.store.records import Signature
from brumel.store.tables import Reading
from brumel.work import rounds
from brumel.work.desk import NotAllowed, Write
from brumel.work.questions import Unanswered
from brumel.work.records import reworking, signing
from brumel.work.rounds.sheet.rows import copy_of
from tests.conftest import as_app
from tests.work import helpers as h
from tests.work.test_closing_day import a_day, close, rule


@pytest.fixture
def things(desk):
    return h.Things(desk)


def as_written_before(desk, things, quantity, **changed):
    """A version as an earlier Brumel would have left it, signed by the lead."""
    with desk.sessions.begin() as session:
        newest = select(Reading).where(Reading.quantity == quantity).order_by(Reading.version.desc(), Reading.at.desc())
        row = session.scalars(newest).first()
        w = Write(session, things.ansa, desk.clock(), uuid.uuid4(), "of an earlier version", desk.clock())
        new = copy_of(w, row, **{key: factor * getattr(row, key) for key, factor in changed.items()})
        session.add(new)
        session.flush()
        session.add(Signature(reading_id=new.id, name="Ilka Torvend", at=desk.clock(), by_id=things.ilka.id))
        return row.value, row.expanded_uncertainty


def newest(desk, quantity):
    with desk.read() as session:
        query = select(Reading).where(Reading.quantity == quantity).order_by(Reading.version.desc(), Reading.at.desc())
        return session.scalars(query).first()


def test_a_wrong_value_is_shown_then_worked_out_anew_and_returns_to_review(desk, clock, things):
    shown = {"B1": ("ph", 8.6), "B3": ("us_cm", 310.0)}
    visit = h.open_typed(desk, things, "raceway", shown)
    typed = rounds.TypedSheet([rounds.Typed(things.probes[p], *value) for p, value in shown.items()], 8.0)
    with pytest.raises(Unanswered) as asked:
        rounds.record_typed(desk, things.ansa, h.key(), visit_id=visit, typed=typed)
    answers = {q.code: "Seen twice" for q in asked.value.questions}
    rounds.record_typed(desk, things.ansa, h.key(), visit_id=visit, typed=typed, answers=answers)
    result = rounds.HandResult("ammonium", 0.4, "a vial", answers={}, reason="Seen twice")
    rounds.by_hand(desk, things.ansa, h.key(), visit_id=visit, result=result)
    right, _ = as_written_before(desk, things, "conductivity", value=1.04)  # by a wrong table of natural waters
    toxic, _ = as_written_before(desk, things, "ammonia", value=0.7)  # the share of another pKa
    with desk.read() as session:
        assert signing.counts(session).unsigned > 0
        written = session.scalar(select(func.count()).select_from(Reading))
    found = {r.quantity: r for r in reworking.preview(desk, things.ilka)}
    assert found["conductivity"].after == pytest.approx(right)
    assert found["ammonia"].after == pytest.approx(toxic)
    assert found["conductivity"].signed
    with desk.read() as session:  # only shown
        assert session.scalar(select(func.count()).select_from(Reading)) == written
    why = {"reason": "The table of natural waters was mended", "visit_id": uuid.UUID(visit)}
    with pytest.raises(NotAllowed):
        reworking.apply(desk, things.ansa, h.key(), name="Ansa Merrik", **why)
    assert reworking.apply(desk, things.ilka, h.key(), name="Ilka Torvend", **why).readings >= 2
    row = newest(desk, "conductivity")
    assert (row.value, row.reason) == (pytest.approx(right), why["reason"])
    with desk.read() as session:
        assert signing.signature(session, row.id) is None
    assert list(reworking.preview(desk, things.ilka)) == []


def test_the_uncertainty_after_a_decision_is_worked_out_with_what_the_check_found(desk, clock, things):
    a_day(desk, clock, things, offset_mv=26.0)
    rule(desk, things.ilka, close(desk, clock, things), "correct")
    _, u = as_written_before(desk, things, "ph", expanded_uncertainty=0.3)
    found = list(reworking.preview(desk, things.ilka))
    assert [(r.quantity, r.u_after) for r in found] == [("ph", pytest.approx(u, rel=1e-6))]
    visit = newest(desk, "ph").visit_id
    reworking.apply(desk, things.ilka, h.key(), visit_id=visit, reason="U after decisions", name="Ilka Torvend")
    row = newest(desk, "ph")
    assert (row.backing, row.expanded_uncertainty) == ("corrected", pytest.approx(u, rel=1e-6))
    assert row.decision_id is not None


def test_the_command_shows_writes_and_names_who_may(desk, clock, things, database_url, monkeypatch):
    h.calibrate(desk, clock, things)
    h.visit(desk, clock, things, "raceway", early=True, reason="Known here")
    right, _ = as_written_before(desk, things, "ph", value=1.02)
    monkeypatch.setenv("DATABASE_URL", as_app(database_url))
    monkeypatch.setenv("BRUMEL_SECRET_KEY", "k" * 40)
    monkeypatch.setenv("BRUMEL_INSECURE_COOKIES", "1")

    def said(*words):
        return CliRunner().invoke(main, ["rework", *words]).output

    assert "is not a lead here" in said("--as", "ansa")
    assert "1 readings come out otherwise" in said("--as", "ilka").replace("\n", " ")
    assert "1 new versions written" in said("--as", "ilka", "--apply", "An earlier slope").replace("\n", " ")
    assert newest(desk, "ph").value == pytest.approx(right)
