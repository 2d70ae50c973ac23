"""Stowing, cleaning and cautions, from `data/care.yaml`."""

from __future__ import annotations

import functools
from typing import Literal

import yaml
from pydantic import Field

from brumel.core.ions import IONS
from brumel.methods.loader import DATA
from brumel.methods.strict import Strict

CareQuantity = Literal["ph", "conductivity", "oxygen", "redox", "ions", "temperature", "chlorine"]


def _kin(quantity: str) -> str:
    """Nitrate and ammonium tips are cared for alike."""
    return "ions" if quantity in IONS else quantity


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
        return tuple(c for c in self.care if c.quantity == _kin(quantity))

    def cautions_at(self, *steps: str, quantity: str) -> tuple[str, ...]:
        return tuple(c.words for c in self.cautions if c.step in steps and _kin(quantity) in c.quantities)


@functools.cache
def load_care() -> CareBook:
    """The shipped advice."""
    return CareBook.model_validate(yaml.safe_load((DATA / "care.yaml").read_text("utf-8")))
