"""Logged series: taken in as a file."""

from __future__ import annotations

from typing import Any

from flask import flash, redirect, request, url_for

from brumel.core.errors import InputError
from brumel.formats import series_csv
from brumel.web.access import actor, desk
from brumel.web.forms import WriteForm
from brumel.web.rounds.routes import blueprint, site
from brumel.work import logs, rounds
from brumel.work.desk import Refused
from brumel.work.photos import clean_name


@blueprint.post("/sites/<site_id>/logs")
def take_in_log(site_id: str) -> Any:
    """A logger's file for this site."""
    form = WriteForm()
    try:
        form.check()
        file = request.files.get("file")
        if file is None or not file.filename:
            raise InputError("file", "Choose the logger's file.")
        with desk().read() as session:
            zone = rounds.site(session, site_id).zone
        found = series_csv.read(file.stream.read(series_csv.MOST_BYTES + 1), zone)
        made = logs.take_in(
            desk(), actor(), form.write_key, site_id=site_id, quantity=request.form.get("quantity", ""),
            unit=request.form.get("unit", ""), times=found.times, values=found.values, name=clean_name(file.filename),
            probe_id=request.form.get("probe", ""),
        )  # fmt: skip
    except InputError as error:
        return site(site_id, error.faults)
    except Refused as error:
        return site(site_id, (error,))
    flash(f"{len(found.times)} values taken in.", "note")
    return redirect(url_for("rounds.site", site_id=site_id, _anchor=f"log-{made['log']}"))
