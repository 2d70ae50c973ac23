"""Loading method and fault files. A bad file is refused with all its faults at once, each with its place."""

from __future__ import annotations

import functools
import re
from pathlib import Path
from typing import Any

import yaml
from pydantic import BaseModel, ConfigDict, TypeAdapter, ValidationError

from brumel.core.diagnosis import Evidence, Fault
from brumel.core.errors import InputError, InputErrors
from brumel.core.quantity_table import IONS, MEASURED, family_of
from brumel.methods.model import Method
from brumel.methods.strict import load_yaml

DATA = Path(__file__).parent / "data"
BIGGEST_FILE = 200_000
#: The order of a whole meter's calibration session.
ORDER = tuple(MEASURED)


class MethodFault(InputError):
    """One fault of a method file, with its place in the file."""


def parse_method(text: str, name: str = "method file") -> Method:
    """A Method from YAML text. Raises InputErrors (or one MethodFault) naming every faulty place."""
    if len(text) > BIGGEST_FILE:
        raise MethodFault(name, f"{name}: over {BIGGEST_FILE // 1000} kB is not a method.")
    try:
        data = load_yaml(text)
    except yaml.YAMLError as error:
        mark = getattr(error, "problem_mark", None)
        where = f" in line {mark.line + 1}" if mark else ""
        raise MethodFault(name, f"{name}: not readable as YAML{where}.") from error
    if not isinstance(data, dict):
        raise MethodFault(name, f"{name}: must be a list of named entries, not {type(data).__name__}.")
    shared, faults = _shared(data, name)
    try:
        if faults:
            raise faults[0]
        return Method.model_validate({**_settling(data), **shared, **data})
    except ValidationError as error:
        faults = method_faults(name, error)
        raise faults[0] if len(faults) == 1 else InputErrors(faults) from error


def method_faults(name: str, error: ValidationError) -> list[MethodFault]:
    """Every faulty place of a method as a sentence; a limit that is neither shape is named once."""
    faults: dict[str, MethodFault] = {}
    for e in error.errors():
        place = [p for p in e["loc"] if p not in ("BandSpec", "Limit")]
        fault = _fault(name, {**e, "loc": tuple(place)})
        faults.setdefault(fault.field, fault)
    return list(faults.values())


def _shared(data: dict[str, Any], name: str) -> tuple[dict[str, Any], list[MethodFault]]:
    """The entries of the shared file a method extends; the method's own win."""
    wanted = data.pop("extends", None)
    if wanted is None:
        return {}, []
    place = f"{data.get('quantity', '')}/{wanted}"
    path = DATA / f"{data.get('quantity', '')}" / f"_{wanted}.yaml"
    if not re.fullmatch(r"[a-z]{1,20}/[a-z-]{1,30}", place) or not path.is_file():
        return {}, [MethodFault(f"{name}: extends", f"{name}: extends: there is no shared file “{str(wanted)[:40]}”.")]
    return dict(_common(path)), []


@functools.cache
def _usual_settling() -> dict[str, Any]:
    return dict(load_yaml((DATA / "settling.yaml").read_text("utf-8")))


@functools.cache
def _common(path: Path) -> dict[str, Any]:
    return dict(load_yaml(path.read_text("utf-8")))


def _settling(data: dict[str, Any]) -> dict[str, Any]:
    """The quantity's usual settling criteria, for a method that states none of its own."""
    usual = _usual_settling()
    family = family_of(str(data.get("quantity")))
    return {"settling": usual[family]} if family in usual else {}


def _fault(name: str, error: dict[str, Any]) -> MethodFault:
    place = ".".join(str(p) for p in error["loc"]) or "the whole"
    value = error.get("input")
    shown = "" if isinstance(value, (dict, list)) or error["type"] == "missing" else f" (it is “{str(value)[:40]}”)"
    message = error["msg"].removeprefix("Value error, ")
    where = name if place == "the whole" else f"{name}: {place}"
    return MethodFault(where, f"{where}: {message}{shown}.", value=value)


@functools.cache
def load_methods() -> dict[str, Method]:
    """All methods shipped, by key, in the order they are offered."""
    files = [
        p
        for p in sorted(DATA.glob("*/*.yaml"))
        if p.parent.name not in ("faults", "practice") and not p.name.startswith("_")
    ]
    methods = [parse_method(p.read_text("utf-8"), p.name) for p in files]
    return {m.key: m for m in sorted(methods, key=lambda m: (ORDER.index(m.quantity), -len(m.steps), m.title))}


def load_method(key: str) -> Method | None:
    """The method of that key, None where there is none."""
    return load_methods().get(key)


class _FaultFile(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)
    faults: tuple[Fault, ...]


@functools.cache
def load_faults(quantity: str) -> tuple[Fault, ...]:
    """The known faults of a quantity."""
    name = "ions" if quantity in IONS else quantity
    data = load_yaml((DATA / "faults" / f"{name}.yaml").read_text("utf-8"))
    TypeAdapter(tuple[Evidence, ...])
    return _FaultFile.model_validate(data).faults
