"""The main pages with a million readings and ten million samples in the database, against the same pages on the demo."""

from __future__ import annotations

import os
import time
from collections.abc import Mapping
from typing import Any

from sqlalchemy import select, text
from sqlalchemy.orm import Session
from tests.web.conftest import sign_in
from tests.work.helpers import Things, key

from benchmarks.stopwatch import median_s
from brumel.config import Config
from brumel.core.planning import Task, plan
from brumel.store.logger import LoggerSeries
from brumel.store.tables import Reading
from brumel.web import create_app
from brumel.work import demo
from brumel.work.desk import Desk
from brumel.work.rounds import calendar, outings

READINGS = int(os.environ.get("BRUMEL_BENCH_READINGS", "1000000"))
SAMPLES = int(os.environ.get("BRUMEL_BENCH_SAMPLES", "10000000"))


def places(desk: Desk, things: Things) -> dict[str, str]:
    with desk.read() as session:
        reading = session.scalar(select(Reading.id).where(Reading.quantity == "ph").limit(1))
        visit = session.scalar(select(Reading.visit_id).where(Reading.quantity == "ph").limit(1))
        found = calendar.rounds(session)[0].id
        log = session.scalar(select(LoggerSeries.id))
    out = outings.start(desk, things.ansa, key(), round_id=str(found)).id
    return {
        "Today": "/",
        "Bench": "/bench",
        "Rounds": "/rounds",
        "a round": f"/rounds/plans/{found}",
        "an outing": f"/rounds/outings/{out}",
        "a site": f"/rounds/sites/{things.sites['raceway']}",
        "a site, five years": f"/rounds/sites/{things.sites['raceway']}?span=all",
        "a logged week": f"/rounds/series/{log}",
        "a sheet": f"/rounds/visits/{visit}",
        "Kit": "/kit",
        "a probe": f"/kit/probes/{things.probes['A1']}",
        "Records": "/records",
        "visits, compact": "/records?rows=compact",
        "visits beyond a limit": "/records?worth=exceeded",
        "visits questioned": "/records?worth=questioned",
        "visits by words": "/records?words=weir+stopped",
        "visits by client": "/records?sort=site&words=lagoon",
        "readings": "/records/readings",
        "a visit reviewed": f"/records/visits/{visit}",
        "Records, one site": f"/records?site={things.sites['raceway']}&quantity=ph",
        "a reading": f"/records/readings/{reading}",
        "Review": "/records/review",
    }


def _measure(client: Any, places: Mapping[str, str]) -> dict[str, float]:
    found = {}
    for name, path in places.items():
        answer = client.get(path)
        assert answer.status_code == 200, (path, answer.status_code)
        found[name] = 1000 * median_s(lambda path=path: client.get(path), 9)
    return found


#: Why readings are kept in spite of a question; one of them is looked for.
WHYS = (
    "Rain since morning",
    "Weed at the inflow",
    "The pump was off",
    "Just fed",
    "Ice at the edge",
    "Cloudy",
    "Low water",
)
SAID = (
    *(f"{why}, {what}" for what in ("read again", "the same", "noted", "shown") for why in WHYS),
    "Stopped below the weir",
)


def _mark(session: Session) -> None:
    """Something to be found: of each of the newest visits one reading beyond its limit, questioned, and with a reason."""
    session.execute(text("alter table readings disable trigger evidence"))
    session.execute(
        text(
            "update readings set outcome = 'exceeded', flag = 3, reason = 'Stopped below the weir' where id in "
            "(select (array_agg(r.id))[1] from readings r join standing_readings s on s.reading_id = r.id join "
            "(select id from visits order by at desc limit 40) v on v.id = r.visit_id where r.reason = '' group by v.id)"
        )
    )
    session.execute(text("alter table readings enable trigger evidence"))


def _grow(session: Session) -> None:
    """Copies of the demo's own readings over five years and more, signed; and logged samples in the partitions there are."""
    own = ("id", "root_id", "version", "at", "written_at", "visit_id")
    columns = [c.name for c in Reading.__table__.columns if c.name not in own]
    names = ", ".join(columns)
    have = session.execute(text("select count(*) from readings where version = 1")).scalar_one()
    rounds_ = READINGS // max(have, 1) + 1
    session.execute(text("alter table readings disable trigger waits"))
    # Every copy of a visit is a visit of its own, so that finding them has as many to look through as a practice would.
    session.execute(
        text(
            "create temp table copied as select v.id as old_id, n, gen_random_uuid() as id, "
            "v.at - n * interval '84 days' / :rounds * 22 as at from visits v, generate_series(1, :rounds) n"
        ),
        {"rounds": rounds_},
    )
    session.execute(
        text(
            "insert into visits (id, site_id, operator_id, source, at) select c.id, v.site_id, v.operator_id, v.source, c.at "
            "from copied c join visits v on v.id = c.old_id"
        )
    )
    session.execute(text("create index on copied (old_id)"))
    # One of fifty lies beyond its limit, one of a hundred is questioned, one of fifty has a reason.
    odd = {
        "outcome": "case when random() < 0.02 then 'exceeded' else replace(g.outcome, 'exceeded', 'met') end",
        "flag": "case when random() < 0.01 then 3 else 1 end",
        "reason": "case when random() < 0.02 then (cast(:said as text[]))[cast(ceil(random() * 29) as int)] else '' end",
    }
    session.execute(
        text(
            f"insert into readings (id, root_id, version, at, written_at, visit_id, {names}) "
            f"select g.id, g.id, 1, g.at, g.at, g.new_visit, {', '.join(odd.get(c, 'g.' + c) for c in columns)} from ("
            f"select gen_random_uuid() as id, r.at - (v.at - c.at) as at, c.id as new_visit, "
            f"{', '.join('r.' + c for c in columns)} from readings r join visits v on v.id = r.visit_id "
            "join copied c on c.old_id = v.id where r.version = 1) g limit :most"
        ),
        {"most": READINGS, "said": list(SAID)},
    )
    session.execute(text("alter table readings enable trigger waits"))
    dip = session.execute(text("select dip_id, min(at) from samples group by dip_id limit 1")).one()
    session.execute(
        text(
            "insert into samples (dip_id, seq, at, t_s, signal, temperature_c) select gen_random_uuid(), i, "
            ":at + (i % 100000) * interval '1 second', i, 100, 12 from generate_series(1, :n) i"
        ),
        {"at": dip[1], "n": SAMPLES},
    )


def main(url: str) -> None:
    from brumel.store.sessions import make_engine, make_sessions

    engine = make_engine(url)
    desk = Desk(make_sessions(engine))
    demo.load_demo(desk)
    things = Things(desk)
    app = create_app(Config(url, "b" * 40, demo=True, insecure_cookies=True))
    client = sign_in(app, "ilka")
    asked = places(desk, things)
    with desk.sessions.begin() as session:
        _mark(session)
    before = _measure(client, asked)
    start = time.perf_counter()
    with desk.sessions.begin() as session:
        _grow(session)
    with engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        connection.execute(text("vacuum analyze readings"))
        connection.execute(text("vacuum analyze visits"))
        connection.execute(text("vacuum analyze standing_readings"))
        connection.execute(text("analyze samples"))
        counts = [connection.execute(text(f"select count(*) from {t}")).scalar_one() for t in ("readings", "samples")]
    print(f"\n{counts[0]:,} readings and {counts[1]:,} samples, put in within {time.perf_counter() - start:.0f} s")
    after = _measure(client, asked)
    for name in asked:
        print(
            f"{'Page ' + name + ', grown against demo':<58} {after[name] / before[name]:>10.2f} x  "
            f"({after[name]:.1f} ms against {before[name]:.1f} ms)"
        )
    tasks = [Task(f"{i}-{j}", 1.0 + j, j % 2 == 0, (f"{i}-{j - 1}",) if j else ()) for i in range(40) for j in range(8)]
    own = 1000 * median_s(lambda: plan(tasks, leave_min=120), 9)
    print(f"{'Planning 40 probes against the page Today':<58} {own / before['Today']:>10.2f} x  ({own:.1f} ms)")
