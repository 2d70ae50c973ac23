"""Stowing, cleaning and cautions, from `data/care.yaml`."""

from __future__ import annotations

import functools
from typing import Annotated, Literal

from pydantic import AfterValidator, Field

from brumel.core.quantity_table import MEASURED, family_of
from brumel.methods.loader import DATA
from brumel.methods.strict import Strict, load_yaml


def _family(quantity: str) -> str:
    if quantity not in {row.family for row in MEASURED.values()}:
        raise ValueError("must be a quantity, or ions for both tips")
    return quantity


#: A quantity, or the family of several that are cared for alike.
CareQuantity = Annotated[str, AfterValidator(_family)]


class Care(Strict):
    """One piece of advice, by the school that gives it."""

    quantity: CareQuantity
    what: Literal["stow", "clean", "revive", "never"]
    school: str
    advice: str
    source: str = Field(min_length=3)


class Caution(Strict):
    """A caution and the step it belongs to."""

    key: str
    step: Literal["solutions", "cleaning", "zero", "handling", "membrane", "site", "judging"]
    quantities: tuple[CareQuantity, ...]
    words: str


class CareBook(Strict):
    """All of it."""

    care: tuple[Care, ...]
    cautions: tuple[Caution, ...]

    def advice(self, quantity: str) -> tuple[Care, ...]:
        return tuple(c for c in self.care if c.quantity == family_of(quantity))

    def cautions_at(self, *steps: str, quantity: str) -> tuple[str, ...]:
        return tuple(c.words for c in self.cautions if c.step in steps and family_of(quantity) in c.quantities)


@functools.cache
def load_care() -> CareBook:
    """The shipped advice."""
    return CareBook.model_validate(load_yaml((DATA / "care.yaml").read_text("utf-8")))
