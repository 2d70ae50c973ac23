"""Bringing tables in: a file, what its columns mean, what would come of it, and what was written of it."""

from __future__ import annotations

import uuid
from collections.abc import Mapping
from typing import Any

from flask import Blueprint, flash, render_template, request, url_for

from brumel.core.errors import InputError
from brumel.core.quantity_table import ON_SHEET
from brumel.formats.csv_rows import write_rows
from brumel.store.tables import User
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.forms import WriteForm
from brumel.work import jobs, rounds
from brumel.work.records import importing
from brumel.work.records.importing import bringing, mapping

blueprint = Blueprint("imports", __name__, template_folder="templates", url_prefix="/records/import")

#: Above so many rows a file is written as a job.
MOST_AT_ONCE = 3000


@blueprint.get("")
def index(faults: Any = ()) -> Any:
    """What was brought in, and the next file."""
    with desk().read() as session:
        page = render_template(
            "imports/index.html",
            imports=importing.imports(session),
            kinds=importing.KINDS,
            columns=mapping.COLUMNS,
            faults=faults,
            given=request.form,
        )
    return page, 422 if faults else 200


@blueprint.post("")
def upload() -> Any:
    """A file to bring in; nothing of it is written yet."""
    form = WriteForm()

    def do() -> str:
        form.check()
        file = request.files.get("file")
        if file is None or not file.filename:
            raise InputError("file", "Choose a file.")
        made = importing.upload(
            desk(),
            actor(),
            form.write_key,
            kind=request.form.get("kind", ""),
            file_name=file.filename[:200],
            data=file.read(),
        )
        return url_for("imports.show", import_id=made.id)

    return answer(do, index)


@blueprint.get("/<import_id>")
def show(import_id: str, faults: Any = ()) -> Any:
    """One file: what its columns are read as, and what would come of it; or what was written."""
    with desk().read() as session:
        row = importing.find_import(session, import_id)
        tried = importing.preview(desk(), actor(), import_id) if row.state == "open" else None
        chosen_here = request.endpoint == "imports.keep_mapping"
        page = render_template(
            "imports/show.html",
            row=row,
            kind=importing.KINDS[row.kind],
            # What was chosen and refused stands there still, to be put right.
            mapping=_mapping() if faults and chosen_here else importing.Mapping.from_dict(row.mapping),
            tried=tried,
            listed=bringing.LISTED,
            columns=mapping.COLUMNS[row.kind],
            dates=mapping.DATES,
            decimals=mapping.DECIMALS,
            quantities={key: mapping.units_of(key) for key in ON_SHEET},
            sites=rounds.sites_by_client(session),
            faults=faults,
        )
    return page, 422 if faults else 200


@blueprint.post("/<import_id>/columns")
def keep_mapping(import_id: str) -> Any:
    """What the columns are read as."""
    form = WriteForm()

    def do() -> str:
        form.check()
        importing.keep_mapping(desk(), actor(), form.write_key, import_id=import_id, mapping=_mapping())
        return url_for("imports.show", import_id=import_id, _anchor="tried")

    return answer(do, lambda faults: show(import_id, faults), url_for("imports.show", import_id=import_id))


def _mapping() -> importing.Mapping:
    given = request.form
    columns = {key.removeprefix("col_"): given[key] for key in given if key.startswith("col_") and given[key]}
    quantities = {}
    for key in given:
        if key.startswith("read_") and given[key]:
            quantity, _, unit = given[key].partition("|")
            quantities[key.removeprefix("read_")] = (quantity, unit)
    rest = {
        name: given.get(name, "") for name in ("dates", "decimals", "zone", "site_id", "depth_unit") if name in given
    }
    return importing.Mapping(columns=columns, quantities=quantities, **rest)


@blueprint.post("/<import_id>/write")
def write(import_id: str) -> Any:
    """Write it, whole."""
    form = WriteForm()

    def do() -> str:
        form.check()
        leave_out = request.form.get("leave_out") == "yes"
        with desk().read() as session:
            row = importing.find_import(session, import_id)
        if row.counts["rows"] > MOST_AT_ONCE:
            asked = {"import": import_id, "leave_out": "yes" if leave_out else "no", "key": str(uuid.uuid4())}
            title = f"{row.file_name} brought in"[:60]
            job = jobs.ask(desk(), actor(), form.write_key, kind="import", title=title, asked=asked)
            return url_for("jobs.job", job_id=job.id)
        made = importing.write(desk(), actor(), form.write_key, import_id=import_id, leave_out=leave_out)
        flash(f"{made.made:,} were written, from {made.rows - made.left_out:,} of {made.rows:,} rows.", "note")
        return url_for("imports.show", import_id=import_id)

    return answer(do, lambda faults: show(import_id, faults), url_for("imports.show", import_id=import_id))


def write_as_job(asker: User, asked: Mapping[str, Any], tell: jobs.Tell) -> jobs.Done:
    """The job "import": the same; its file names the rows that were left out."""
    import_id = str(asked["import"])
    faults = importing.preview(desk(), asker, import_id).faults
    importing.write(
        desk(),
        asker,
        uuid.UUID(str(asked["key"])),
        import_id=import_id,
        leave_out=asked.get("leave_out") == "yes",
        told=tell,
    )
    rows = [{"line": fault.line, "fault": fault.words} for fault in faults]
    body = "".join(write_rows(("line", "fault"), rows)).encode("utf-8-sig")
    return jobs.Done("rows-left-out.csv", "text/csv", body)


def check(asked: Mapping[str, Any]) -> None:
    """Raises InputError: such a job is asked for on the import's own page alone."""
    raise InputError("import", "A table is brought in from its own page.")


@blueprint.post("/<import_id>/drop")
def drop(import_id: str) -> Any:
    """Leave it."""
    form = WriteForm()

    def do() -> str:
        form.check()
        importing.drop(desk(), actor(), form.write_key, import_id=import_id)
        flash("Left: nothing of it was written.", "note")
        return url_for("imports.index")

    return answer(do, lambda faults: show(import_id, faults), url_for("imports.show", import_id=import_id))


@blueprint.post("/<import_id>/take-back")
def take_back(import_id: str) -> Any:
    """Take back all of it."""
    form = WriteForm()

    def do() -> str:
        form.check()
        reason = request.form.get("reason", "")
        importing.take_back(desk(), actor(), form.write_key, import_id=import_id, reason=reason)
        flash("Taken back: nothing of it counts any more; it stays in the record.", "note")
        return url_for("imports.show", import_id=import_id)

    return answer(do, lambda faults: show(import_id, faults), url_for("imports.show", import_id=import_id))
