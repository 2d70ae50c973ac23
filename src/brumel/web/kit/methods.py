"""Methods: read them all; the lead copies, changes and puts them in use, with a source for every limit."""

from __future__ import annotations

import re
from typing import Any

import yaml
from flask import Response, flash, render_template, request, url_for

from brumel.core.errors import InputError, InputErrors
from brumel.core.quantity_table import MEASURED
from brumel.methods import Method
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.forms import ReasonForm, parse_number, text_of
from brumel.web.kit.place import blueprint
from brumel.work import kit
from brumel.work.desk import NotFound

SETTLE = {
    "window_s": "judged over, s",
    "drift_per_min": "drift per minute",
    "noise": "noise",
    "shortest_s": "shortest wait, s",
    "longest_s": "longest wait, s",
    "typed_readings": "values typed from a display that settle a cup",
    "typed_spacing_s": "typed values at least apart, s",
}


@blueprint.get("/methods")
def methods() -> Any:
    """Every method with its sequence, limits and sources."""
    with desk().read() as session:
        groups = kit.methods_by_quantity(session)
        own_keys = kit.own_methods(session)
        return render_template(
            "kit/methods.html", schools=groups, own_keys=own_keys, retired=kit.retired_methods(session)
        )


@blueprint.get("/methods/<method_key>")
def method(method_key: str, faults: Any = ()) -> Any:
    """One method: its sequence, every limit with its source, its versions; for the lead also the form."""
    with desk().read() as session:
        method = kit.method(session, method_key)
        past = kit.method_versions(session, method_key)
        if method is None and not past:
            raise NotFound("There is no such method.")
        shown = method or Method.model_validate(past[0].body)
        fits, bands, singles = MEASURED[shown.quantity].judged
        page = render_template(
            "kit/method.html",
            method=shown,
            retired=method is None,
            versions=past,
            faults=faults,
            given=request.form,
            bands=sorted(bands),
            singles=sorted(singles | ({"as_found"} & set(shown.limits))),
            fits=fits,
            settle=SETTLE,
            copy=request.values.get("copy") == "yes",
            rinses=_rinses(kit.methods_in_use(session)),
            roles=("adjust", "check", "zero"),
            vessels={v: VESSELS[v] for v in MEASURED[shown.quantity].vessels},
            blank=range(3),
        )
        return page, 422 if faults else 200


#: What a probe may stand in, as the form of a method says it.
VESSELS = {
    "solution": "a solution",
    "air": "dry, in air",
    "saturated_air": "water-saturated air",
    "saturated_water": "air-saturated water",
    "reference": "beside a reference",
}


def _rinses(methods: dict[str, Method]) -> list[str]:
    """The ways of rinsing there are, to choose from."""
    schools = [
        "Rinse with pure water and blot. Never wipe the bulb: wiping charges it and scratches it.",
        "Two rinses with pure water, then two with the next solution; blot.",
        "Fill the cup a quarter with the next solution, cap, shake 6 s, discard, fill afresh.",
        "In the field: tap water, then a rinse with the next solution.",
    ]
    return list(dict.fromkeys([*schools, *(m.rinse for m in methods.values())]))


@blueprint.get("/methods/<method_key>.yaml")
def method_file(method_key: str) -> Any:
    """The method as an open file."""
    with desk().read() as session:
        past = kit.method_versions(session, method_key)
        method = kit.method(session, method_key) or (Method.model_validate(past[0].body) if past else None)
    if method is None:
        raise NotFound("There is no such method.")
    text = yaml.safe_dump(method.stored(), allow_unicode=True, sort_keys=False)
    response = Response(text, mimetype="application/yaml")
    response.headers["Content-Disposition"] = f'attachment; filename="{method.key}-v{method.version}.yaml"'
    return response


#: What a method may leave unsaid: the model then has its own answer.
_OPTIONAL = ("settling-typed_readings", "settling-typed_spacing_s")


def _number(name: str, faults: list[InputError]) -> float | None:
    try:
        return parse_number(name.replace("_", " "), request.form.get(name, ""), required=name not in _OPTIONAL)
    except InputError as error:
        faults += error.faults
        return None


def _body(shown: Method, key: str) -> dict[str, Any]:
    """The method as the form gives it. Raises every fault of a number at once."""
    got = request.form.get
    faults: list[InputError] = []
    limits: dict[str, Any] = {}
    bands = MEASURED[shown.quantity].judged.bands
    for name, old in shown.limits.items():
        source = got(f"limit-{name}-source", "").strip()
        if name in bands:
            four = [
                _number(f"limit-{name}-{part}", faults) for part in ("fit-low", "fit-high", "care-low", "care-high")
            ]
            limits[name] = {"fit": four[:2], "care": four[2:], "unit": old.unit, "source": source}
        else:
            limits[name] = {"value": _number(f"limit-{name}", faults), "unit": old.unit, "source": source}
    settling = shown.settling.model_dump(mode="json")
    settling |= {name: _number(f"settling-{name}", faults) for name in SETTLE} | {
        "source": got("settling-source", "").strip()
    }
    if not got("settling-typed_readings", "").strip():
        settling["typed_readings"] = shown.settling.typed_readings
    valid = {"value": _number("valid", faults), "unit": "h", "source": got("valid-source", "").strip()}
    steps = _steps(faults)
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    return {
        "key": key,
        "title": got("title", "").strip(),
        "quantity": shown.quantity,
        "school": got("school", "").strip(),
        "when": got("when", "").strip(),
        "fit": got("fit", ""),
        "steps": steps,
        "rinse": got("rinse", "").strip(),
        "prepare": _lines("prepare"),
        "cautions": _lines("cautions"),
        "stow": got("stow", "").strip(),
        "valid_h": valid,
        "limits": limits,
        "settling": settling,
        "from_method": shown.from_method or (shown.key if shown.key != key else ""),
    }


def _lines(name: str) -> list[str]:
    return [line.strip() for line in request.form.get(name, "").splitlines() if line.strip()]


def _steps(faults: list[InputError]) -> list[dict[str, Any]]:
    """The steps in the order their numbers say; a step without a title is left out."""
    got, rows = request.form.get, []
    for i in sorted({int(k.split("-")[1]) for k in request.form if re.fullmatch(r"step-\d{1,2}-title", k)}):
        title = got(f"step-{i}-title", "").strip()
        if not title:
            continue
        place = _number(f"step-{i}-order", faults)
        vessel = got(f"step-{i}-vessel", "solution")
        step: dict[str, Any] = {
            "key": got(f"step-{i}-key", "") or f"cup-{i + 1}",
            "title": title,
            "vessel": vessel,
            "role": got(f"step-{i}-role", "adjust"),
            "hint": got(f"step-{i}-hint", "").strip(),
            "between": None,
            "made_as": got(f"step-{i}-made-as", ""),
        }
        if vessel == "solution":
            step["between"] = [_number(f"step-{i}-low", faults), _number(f"step-{i}-high", faults)]
        rows.append((place or 0.0, i, step))
    return [step for _, _, step in sorted(rows, key=lambda r: (r[0], r[1]))]


@blueprint.post("/methods/<method_key>")
def save_method(method_key: str) -> Any:
    """Put a changed method in use as its next version, or a copy under a name of its own."""
    form = ReasonForm()

    def do() -> str:
        form.check()
        with desk().read() as session:
            shown = kit.method(session, method_key)
            if shown is None:
                raise NotFound("There is no such method in use.")
            title = request.form.get("title", "")
            copying = request.form.get("copy") == "yes"
            key = kit.new_method_key(session, title, shown.quantity) if copying else method_key
        turn = 0 if copying else form.turn_number
        saved = kit.save_method(
            desk(), actor(), form.write_key, body=_body(shown, key), reason=text_of(form.reason), turn=turn
        )
        flash(f"In use as version {saved.version}. Runs made before keep the version they were made with.", "note")
        return url_for("kit.method", method_key=saved.key)

    return answer(do, lambda faults: method(method_key, faults))


@blueprint.post("/methods/<method_key>/retire")
def retire_method(method_key: str) -> Any:
    """Take a method out of use."""
    form = ReasonForm()

    def do() -> str:
        form.check()
        kit.retire_method(desk(), actor(), form.write_key, method_key=method_key, reason=text_of(form.reason))
        return url_for("kit.methods")

    return answer(do, lambda faults: method(method_key, faults))


@blueprint.post("/methods/<method_key>/restore")
def restore_method(method_key: str) -> Any:
    """Put a method back in use."""
    form = ReasonForm()

    def do() -> str:
        form.check()
        kit.restore_method(desk(), actor(), form.write_key, method_key=method_key, reason=text_of(form.reason))
        return url_for("kit.method", method_key=method_key)

    return answer(do, lambda faults: method(method_key, faults))
