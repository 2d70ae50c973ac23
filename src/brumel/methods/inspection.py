"""Inspecting a probe before use: per quantity the items, each with a picture, plain findings, their remedy, and whether
they keep the probe off Bench. From `data/inspection.yaml`."""

from __future__ import annotations

import functools

from pydantic import Field, TypeAdapter

from brumel.core.quantity_table import IONS
from brumel.methods.loader import DATA
from brumel.methods.strict import Strict, load_yaml


class InspectionFinding(Strict):
    """Something that may be seen: words, what to do, whether it keeps the probe off Bench, what maintenance mends it."""

    key: str
    words: str
    remedy: str
    blocks: bool = False
    maintenance: str = ""


class InspectionItem(Strict):
    """One place to look at: which picture, the question, what is good, what else may be seen."""

    key: str
    picture: str
    question: str
    good: str
    findings: tuple[InspectionFinding, ...] = Field(min_length=1)
    not_kinds: tuple[str, ...] = ()


@functools.cache
def _load() -> dict[str, tuple[InspectionItem, ...]]:
    data = load_yaml((DATA / "inspection.yaml").read_text("utf-8"))
    return TypeAdapter(dict[str, tuple[InspectionItem, ...]]).validate_python(data)


def items_for(quantity: str, kind: str) -> tuple[InspectionItem, ...]:
    """What to look at on a probe of this quantity and kind; plug and cable come last for all."""
    book = _load()
    items = book.get("ions" if quantity in IONS else quantity, ())
    return tuple(i for i in (*items, *book["all"]) if kind not in i.not_kinds)
