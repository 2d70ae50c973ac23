"""Readings as CSV: at once for a screenful or two, as a job for many."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from brumel.core.errors import InputError
from brumel.core.sentence import say
from brumel.formats.csv_rows import write_rows
from brumel.store.tables import User
from brumel.web.access import desk
from brumel.web.records import finding
from brumel.work import jobs, records
from brumel.work.records import reading_rows

#: A search that finds more is offered as a job instead of a page one waits for.
AT_ONCE = 2000
#: The file is made in memory; more than this is asked for in parts.
MOST = 200_000
#: How often whoever waits is told [rows].
TELL_EVERY = 500


def write_found(_asker: User, asked: Mapping[str, Any], tell: jobs.Tell) -> jobs.Done:
    """The job "readings": every reading a search finds, newest first."""
    search = finding.of_arguments(asked)
    with desk().read() as session:
        of = records.count(session, search)
        if of > MOST:
            raise InputError(
                "since", say("That finds {n} readings; a file holds {most}. Ask for fewer days.", n=of, most=MOST)
            )

        def counted() -> Iterator[dict[str, Any]]:
            for n, row in enumerate(records.export(session, search)):
                if n % TELL_EVERY == 0:
                    tell(n, of)
                yield row

        body = "".join(write_rows(reading_rows.COLUMNS, counted())).encode()
    tell(of, of)
    return jobs.Done(f"brumel-readings-{desk().clock():%Y%m%d-%H%M}.csv", "text/csv; charset=utf-8", body)
