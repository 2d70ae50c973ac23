"""Storage, cleaning and cautions, from `data/care.yaml`."""

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


class OfKinds(Strict):
    """What holds for these kinds of probe only, or for all but those."""

    kinds: tuple[str, ...] = ()
    not_kinds: tuple[str, ...] = ()

    def is_for(self, kind: str) -> bool:
        return (not self.kinds or kind in self.kinds) and kind not in self.not_kinds


class Care(OfKinds):
    """One piece of advice, by the school that gives it."""

    quantity: CareQuantity
    what: Literal["stow", "clean", "revive", "never"]
    school: str
    advice: str
    source: str = Field(min_length=3)


class StoragePlace(OfKinds):
    """Where a probe may be put away, and what is said of it when it is next looked at.

    standing : "right" by its school, "while" for `hours`, "wrong" at once
    maintenance : what puts right what the place has done
    """

    quantity: CareQuantity
    key: str
    words: str
    standing: Literal["right", "while", "wrong"]
    hours: float | None = Field(default=None, gt=0)
    school: str = ""
    says: str = ""
    maintenance: str = ""

    def speaks_up(self, stored_h: float) -> bool:
        """Whether the place asks for something after so long [h]."""
        if self.standing == "while" and self.hours is not None:
            return stored_h > self.hours
        return bool(self.says)


class Caution(OfKinds):
    """A caution and the step it belongs to."""

    key: str
    step: Literal["solutions", "cleaning", "zero", "handling", "membrane", "site", "judging"]
    quantities: tuple[CareQuantity, ...]
    words: str


class CareBook(Strict):
    """All of it."""

    care: tuple[Care, ...]
    storage: tuple[StoragePlace, ...]
    cautions: tuple[Caution, ...]

    def advice(self, quantity: str, kind: str) -> tuple[Care, ...]:
        """What its family is stored and cleaned with, as far as it holds for this kind of probe."""
        return tuple(c for c in self.care if c.quantity == family_of(quantity) and c.is_for(kind))

    def places(self, quantity: str, kind: str) -> dict[str, StoragePlace]:
        """Where a probe of this quantity and kind may be put away, by key, the right places first."""
        return {p.key: p for p in self.storage if p.quantity == family_of(quantity) and p.is_for(kind)}

    def cautions_at(self, *steps: str, quantity: str, kind: str = "") -> tuple[str, ...]:
        """The cautions of these steps, as far as they hold for this kind of probe."""
        family = family_of(quantity)
        return tuple(c.words for c in self.cautions if c.step in steps and family in c.quantities and c.is_for(kind))


@functools.cache
def load_care() -> CareBook:
    """The shipped advice."""
    return CareBook.model_validate(load_yaml((DATA / "care.yaml").read_text("utf-8")))
