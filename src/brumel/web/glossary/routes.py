"""The glossary: the words of the work, each in one sentence; and the sources that figures come from."""

from __future__ import annotations

import functools
import json
from datetime import UTC, datetime
from importlib import metadata
from pathlib import Path
from typing import Any

from flask import Blueprint, Response, abort, current_app, jsonify, render_template

from brumel.formats.open_record import OpenCalibration, OpenMethod, OpenProbe, OpenReading, OpenRecord, OpenSite
from brumel.methods.glossary import anchor, load_glossary
from brumel.methods.sources import load_sources, uses
from brumel.web.api import models
from brumel.web.records.exporting import LICENCES, OPEN_FORMATS

blueprint = Blueprint("glossary", __name__, template_folder="templates", url_prefix="/glossary")


@blueprint.get("")
def show() -> Any:
    """Every word with its sentence."""
    return render_template("glossary/show.html", words=load_glossary(), anchor=anchor)


@blueprint.get("/sources")
def sources() -> Any:
    """Every source with its title."""
    return render_template("glossary/sources.html", sources=load_sources())


@blueprint.get("/sources/<key>")
def source(key: str) -> Any:
    """One source, and what rests on it."""
    title = load_sources().get(key) or abort(404)
    return render_template("glossary/source.html", key=key, title=title, uses=uses()[key])


# -- formats

_AT = datetime(2026, 5, 12, 6, 40, tzinfo=UTC)
_SITE, _PROBE, _CALIBRATION, _VISIT = (f"00000000-0000-4000-8000-00000000000{n}" for n in range(1, 5))


def _sample_reading(
    number: int, quantity: str, title: str, value: float, unit: str, u: float, flag: int
) -> OpenReading:
    id_ = f"00000000-0000-4000-8000-0000000001{number:02d}"
    read_with = (_PROBE, _CALIBRATION) if quantity == "ph" else ("", "")
    at = _AT.replace(minute=40 + number)
    rest = ("first", "sensor" if quantity == "ph" else "calculated", flag, "bracketed", "met", "Ilka Torvend", "")
    return OpenReading(id_, 1, _VISIT, _SITE, *read_with, quantity, title, value, unit, u, at, 0.3, 11.2, *rest)  # type: ignore[arg-type]


#: A record of the made-up world, small enough to read.
SAMPLE = OpenRecord(
    "Tarnholt Water Survey",
    datetime(2026, 5, 13, 8, 0, tzinfo=UTC),
    [OpenSite(_SITE, "Raceway 3, inflow", "Skarn Char Farm", "fish farm", "char", "Europe/Oslo", 60.1, 10.2, 41.0)],
    [OpenProbe(_PROBE, "pH probe A1", "P-1101", "ph", "Field set A", "FSA-01")],
    [OpenCalibration(_CALIBRATION, 1001, _PROBE, _AT, _AT.replace(day=13), "ph-7-4-10", 1, "fit", True, "Ansa Merrik")],
    [
        _sample_reading(1, "ph", "pH", 7.31, "pH", 0.05, 1),
        _sample_reading(2, "ph", "pH", 7.52, "pH", 0.05, 3),
        _sample_reading(3, "salinity", "Salinity", 0.11, "PSS-78", 0.01, 1),
    ],
    [OpenMethod("ph-7-4-10@1", "ph-7-4-10", 1, "7 → 4 → 10", "ph", "buffer 7 → buffer 4 → buffer 10", "")],
)


@blueprint.get("/formats")
def formats() -> Any:
    """The formats that come in and go out, each with a sample."""
    return render_template("glossary/formats.html", formats=OPEN_FORMATS)


@blueprint.get("/formats/sample/<name>")
def sample(name: str) -> Any:
    """A small file in a format, of the made-up world."""
    form = OPEN_FORMATS.get(name) or abort(404)
    response = Response(form.write(SAMPLE, next(iter(LICENCES))), content_type=form.kind)
    response.headers["Content-Disposition"] = f'attachment; filename="sample-{name}.{form.ending}"'
    return response


@blueprint.get("/formats/calibration.schema.json")
def schema() -> Any:
    """The published schema of a calibration record, as the API gives it."""
    made = models.Calibration.model_json_schema(mode="serialization")
    return jsonify(
        {"$schema": "https://json-schema.org/draft/2020-12/schema", "$id": "urn:brumel:calibration:1", **made}
    )


# -- licences


#: The packages of the server, as pyproject.toml asks for them; a test holds both.
PACKAGES = (
    "a2wsgi", "alembic", "apispec", "argon2-cffi", "babel", "click", "cryptography", "flask", "flask-compress",
    "flask-limiter", "flask-login", "flask-wtf", "gsw", "gunicorn", "icalendar", "numpy", "openpyxl", "pandas",
    "pillow", "pint", "prometheus-client", "psycopg", "pydantic", "pyotp", "pyserial", "python-dateutil",
    "python-json-logger", "pyyaml", "rich", "scipy", "segno", "sqlalchemy", "uvicorn", "uvicorn-worker", "weasyprint",
    "whitenoise", "xlsxwriter", "zxcvbn",
)  # fmt: skip


@functools.cache
def _python_packages() -> list[tuple[str, str, str]]:
    """Name, version and licence of each, as their own records say."""
    found = []
    for name in PACKAGES:
        about = metadata.metadata(name)
        classified = [c.rpartition(":: ")[2] for c in about.get_all("Classifier") or () if c.startswith("License ::")]
        said = [*(about.get_all("License-Expression") or ()), *classified, *(about.get_all("License") or ()), ""]
        found.append((name, metadata.version(name), said[0].partition("\n")[0][:60]))
    return found


@blueprint.get("/licences")
def licences() -> Any:
    """What Brumel is made with, and under which licences."""
    kept = json.loads((Path(current_app.static_folder or "") / "vendor/versions.json").read_text("utf-8"))
    return render_template("glossary/licences.html", front=kept, packages=_python_packages())
