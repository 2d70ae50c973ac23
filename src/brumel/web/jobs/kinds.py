"""Every kind of job: how it is asked for, and who does it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from flask import Flask

from brumel.store.tables import User
from brumel.web.deployments import files as deployments
from brumel.web.documents import printing
from brumel.web.documents import routes as documents
from brumel.web.imports import routes as imports
from brumel.web.people import routes as people
from brumel.web.records import certificates, exporting, finding
from brumel.work import jobs


@dataclass(frozen=True)
class Kind:
    """A kind of job.

    do : makes the file; runs inside the application, outside any request
    check : raises InputError for what cannot be asked
    arguments : the names of the form that belong to it
    """

    title: str
    do: jobs.Kind
    check: Callable[[Mapping[str, str]], Any]
    arguments: tuple[str, ...]


KINDS = {
    "certificates": Kind(
        "Calibration records as one PDF", certificates.print_found, finding.of_arguments, finding.NAMES
    ),
    "document": Kind("A document", documents.issue_as_job, documents.check, ("kind", "client", "since", "until")),
    "import": Kind("A table brought in", imports.write_as_job, imports.check, ()),
    "logger": Kind("A logger's file", deployments.take_as_job, deployments.check, ()),
    "open": Kind(
        "Records in an open format",
        exporting.write_openly,
        exporting.check_open,
        (*finding.NAMES, "sort", "format", "licence"),
    ),
    "practice": Kind("The whole practice", people.take_practice, people.check_practice, ()),
    "readings": Kind(
        "A table to take away", exporting.write_found, exporting.check, (*finding.NAMES, "sort", "table", "kind")
    ),
}


def doers(app: Flask) -> dict[str, jobs.Kind]:
    """The kinds as the process that does them calls them."""

    def within(kind: Kind) -> jobs.Kind:
        def do(asker: User, asked: Mapping[str, Any], tell: jobs.Tell) -> jobs.Done:
            with app.test_request_context("/jobs"):  # templates and addresses want one
                return kind.do(asker, asked, tell)

        return do

    return {name: within(kind) for name, kind in KINDS.items()}


def make_ready(app: Flask) -> None:
    """What the first job would have to wait for."""
    with app.app_context():
        certificates.make_ready()
        printing.press.make_ready()
