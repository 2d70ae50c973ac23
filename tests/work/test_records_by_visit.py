"""Visits found by every field of the search, reviewed, signed, and sent back."""

import uuid
from datetime import timedelta
from zoneinfo import ZoneInfo

import pytest
from sqlalchemy import func, select

from brumel.core.errors import InputError
from brumel.store.records import Signature, Unsigned
from brumel.store.tables import Reading
from brumel.work import records, rounds
from brumel.work.demo.load import PASSWORD
from brumel.work.desk import MovedOn, NotAllowed, NotFound, Refused
from brumel.work.records import listings, mending, news, recorded, review, signing, visit_rows, visits
from tests.work import helpers as h


@pytest.fixture
def things(desk):
    return h.Things(desk)


@pytest.fixture
def world(begun):
    """Four visits on three days; one with a corrected slip, one with a note."""
    return begun(_four_visits)


def _four_visits(desk):
    things, clock = h.Things(desk), desk.clock
    h.calibrate(desk, clock, things)
    made = {}
    for name, site in (("profile", "basin"), ("pool", "pool"), ("slip", "raceway"), ("late", "reed")):
        made[name] = uuid.UUID(h.visit(desk, clock, things, site, early=True, reason=f"First {name}"))
        clock.on(hours=24 if name in ("pool", "slip") else 1)
    with desk.read() as session:
        (slip,) = [r for r in rounds.of_visit(session, made["slip"]) if r.quantity == "ph"]
    wrong = mending.Correction("First depth was noted wrong", 0.3, None, "", "", None, None)
    mending.correct(desk, things.ansa, h.key(), reading_id=str(slip.id), version=1, correction=wrong)
    rounds.say(desk, things.ansa, h.key(), visit_id=str(made["late"]), note="Heron on the 100 % weir_board")
    return made


def found(desk, **search):
    with desk.read() as session:
        return {row.visit.id for row in visits.find(session, records.Search(**search)).rows}


def test_visits_are_found_by_what_is_asked_of_them_and_by_the_sites_own_day(desk, clock, things, world):
    every = set(world.values())
    with desk.read() as session:
        rows = visits.find(session, records.Search()).rows
        by_id = {row.visit.id: row for row in rows}
        day = by_id[world["slip"]].visit.at.date()
        site = by_id[world["pool"]].visit.site
    assert set(by_id) == every
    one = {name: {visit} for name, visit in world.items()}
    cases = [
        (dict(site_id=site.id), one["pool"]),
        (dict(client_id=site.client_id), one["pool"]),
        (dict(person_id=things.ansa.id), every),
        (dict(person_id=things.ilka.id), set()),
        (dict(quantity="ph"), every),
        (dict(quantity="nitrate"), set()),
        (dict(words="heron WEIR_board"), one["late"]),
        (dict(words="100 %"), one["late"]),  # signs of a pattern are letters like others
        (dict(words="depth wrong"), one["slip"]),
        (dict(words="heron depth"), set()),  # each is said of another visit
        (dict(worth="mended"), one["slip"]),
        (dict(words="anything else"), set()),
        (dict(words="her_n"), set()),
        (dict(words="h%n"), set()),
        (dict(since=day, until=day), one["slip"]),
        (dict(until=day - timedelta(days=1)), {world["profile"], world["pool"]} & every),
        (dict(signed="no"), every),
        (dict(signed="yes"), set()),
        (dict(backing="bracketed"), set()),
        (dict(backing="open", quantity="temperature"), set()),  # of one and the same reading
        (dict(decision="doubt"), set()),
        (dict(words="ansa depth"), {world["slip"]}),  # a name and a reason
        (dict(words="reed", sort="site"), one["late"]),
        (dict(words="reed ansa nobody", sort="site"), set()),
        (dict(page=2), set()),
    ]
    for search, wanted in cases:
        assert found(desk, **search) == wanted, search


def test_a_page_of_visits_is_what_their_export_has_in_every_order(desk, clock, things, world):
    h.visit(desk, clock, things, "raceway", early=True, reason="First slip, again")
    for search in (dict(), dict(words="first"), dict(words="a"), dict(quantity="ph"), dict(words="raceway ansa")):
        orders = []
        for sort in records.SORTS:
            asked = records.Search(**search, sort=sort)
            with desk.read() as session:
                query = visits.ordered(visits.query_of(asked), sort)
                orders.append([visit.id for visit in session.scalars(query)])
                assert [row.visit.id for row in visits.find(session, asked).rows] == orders[-1], asked
        assert len({frozenset(order) for order in orders}) == 1
        assert orders[0] == orders[1][::-1]


def test_a_day_is_the_sites_own_and_not_the_servers(desk, clock, things):
    clock.on(hours=(22 - clock().hour) % 24 + 0.75)  # 22:45 in UTC is past midnight at a site two hours east
    visit = uuid.UUID(h.visit(desk, clock, things, "lagoon", early=True, reason="Late"))
    with desk.read() as session:
        at = recorded.visit_of(session, str(visit))
        local = at.at.astimezone(ZoneInfo(at.site.zone)).date()
        assert local != at.at.date()
    assert found(desk, since=local, until=local) == {visit}
    assert found(desk, since=at.at.date(), until=at.at.date()) == set()


def test_a_visit_that_was_moved_is_found_at_its_right_site_alone(desk, things, world):
    right = things.sites["outflow"]
    why = "It was the outflow"
    moved = mending.move_visit(desk, things.ansa, h.key(), visit_id=str(world["slip"]), site_id=right, reason=why).id
    assert found(desk) == set(world.values()) - {world["slip"]} | {uuid.UUID(moved)}
    assert found(desk, site_id=uuid.UUID(right)) == {uuid.UUID(moved)}
    assert found(desk, site_id=uuid.UUID(things.sites["raceway"])) == set()


def test_the_wide_table_has_a_row_a_depth_and_says_what_each_value_is_worth(desk, clock, things, world):
    with desk.read() as session:
        rows = list(visit_rows.rows(session, records.Search()))
        counted = session.scalar(select(func.count()).select_from(Reading))
    assert all(set(row) <= set(visit_rows.COLUMNS) for row in rows)
    assert len({row["visit_id"] for row in rows}) == 4
    values = sum(1 for row in rows for c in row if c in {visit_rows.value_column(q) for q in ("ph", "temperature")})
    assert values == counted - 1  # every standing one, once; the first version of the slip stands nowhere
    assert all(row["time_utc"].endswith("Z") and row["zone"] for row in rows)
    early = {str(world[name]) for name in ("profile", "pool")}  # the others when the calibration had run out
    assert {r["ph_backing"] for r in rows if r["visit_id"] in early and "ph" in r} == {"open"}
    assert {r["ph_backing"] for r in rows if r["visit_id"] not in early and "ph" in r} == {"unbacked"}


def test_a_visit_is_signed_but_for_what_is_set_apart_and_names_the_versions(desk, things, world):
    with desk.read() as session:
        (row,) = [r for r in visits.find(session, records.Search()).rows if r.visit.id == world["pool"]]
        ids = [str(v.id) for v in row.values]
        apart = str(row.cells["ph"].low.id)
    scope = signing.Scope("visit", str(world["pool"]))
    given = dict(readings=ids, password=PASSWORD, scope=scope)
    with pytest.raises(NotAllowed):
        signing.sign(desk, things.ansa, h.key(), **given)
    for wrong in ("", PASSWORD.upper(), PASSWORD + "\x00"):
        with pytest.raises(InputError, match="Password"):
            signing.sign(desk, things.ilka, h.key(), **given | {"password": wrong})
    with pytest.raises(NotFound):
        signing.sign(desk, things.ilka, h.key(), **given | {"scope": signing.Scope("beer", "")})
    with pytest.raises(Refused, match="Nothing is left"):
        signing.sign(desk, things.ilka, h.key(), apart=ids, **given)
    key = h.key()
    act = signing.sign(desk, things.ilka, key, apart=[apart], **given)
    assert act == signing.sign(desk, things.ilka, key, apart=[apart], **given)  # sent twice, signed once
    with desk.read() as session:
        signed, rows = signing.signing(session, act.id)
        assert (signed.kind, signed.subject, act.signed) == ("visit", world["pool"], len(ids) - 1)
        assert {str(r.id) for r in rows} == set(ids) - {apart}
        assert str(session.scalar(select(Unsigned.reading_id).where(Unsigned.reading_id == uuid.UUID(apart)))) == apart
        assert session.scalar(select(func.count()).select_from(Signature)) == len(ids) - 1
    with pytest.raises(MovedOn, match="signed already"):
        signing.sign(desk, things.ilka, h.key(), apart=[apart], **given)


def test_what_wants_a_look_comes_first_and_a_visit_goes_back_with_a_question(desk, clock, things, world):
    with desk.read() as session:
        waiting, total = review.waiting(session)
        assert total == 4
        assert {v.visit.id for of in waiting for v in of.visits} == set(world.values())
        assert all(v.doubtful for of in waiting for v in of.visits)  # its thermometer was never calibrated
    visit = str(world["late"])
    with pytest.raises(NotAllowed):
        review.ask(desk, things.ansa, h.key(), visit_id=visit, question="Why so high?")
    with pytest.raises(InputError, match="Question"):
        review.ask(desk, things.ilka, h.key(), visit_id=visit, question=" ")
    asked = review.ask(desk, things.ilka, h.key(), visit_id=visit, question="Did the weir leak?").id
    with desk.read() as session:
        (back,) = news.of_day(session, clock() - timedelta(days=9), clock.at, things.ansa).sent_back
        assert (str(back.visit_id), back.question, back.asked_by) == (visit, "Did the weir leak?", things.ilka.name)
        assert news.of_day(session, clock(), clock(), things.ilka).sent_back == []
    review.answer(desk, things.ansa, h.key(), question_id=asked, text="It did, a little")
    with pytest.raises(MovedOn, match="answered already"):
        review.answer(desk, things.ilka, h.key(), question_id=asked, text="No")
    with desk.read() as session:
        assert news.of_day(session, clock(), clock.at, things.ansa).sent_back == []
        (whole,) = recorded.recorded(session, [recorded.visit_of(session, visit)])
        assert [(a.question.question, a.answer.answer) for a in whole.asked] == [
            ("Did the weir leak?", "It did, a little")
        ]
        assert whole.said == ["Heron on the 100 % weir_board"]


@pytest.mark.parametrize("name", sorted(listings.VIEWS))
def test_the_further_views_take_every_field_they_offer(desk, clock, things, world, name):
    with desk.read() as session:
        whole = listings.listing(session, name, records.Search())
        assert all(len(line.cells) == len(whole.heads) for line in whole.lines)
        for search in (
            dict(words="zzz nothing"),
            dict(quantity="chlorine", words="zzz"),
            dict(person_id=uuid.uuid4(), words="%"),
            dict(decision="reject", words="zzz"),
        ):
            assert listings.listing(session, name, records.Search(**search)).lines == [], search
        with pytest.raises(NotFound):
            listings.listing(session, name + "x", records.Search())
