"""Input that cannot be judged. Every message is a sentence for people that names the field.

BrumelError
└── InputError            one fault: field, value, low, high, unit
    ├── NotANumber        empty, text, NaN or infinite where a number belongs
    ├── OutOfRange        a number outside what the formula or the thing allows
    ├── UnknownName       a name that is not in the list; offers the nearest
    ├── WrongShape        empty, or lengths that do not match
    ├── CannotFit         points that do not make a line
    └── InputErrors       several of the above, all at once (faults)
"""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Sequence

from brumel.core.quantities import sentence_label, unit_of
from brumel.core.sentence import Amount, Span, joined, say


class BrumelError(Exception):
    """Root of every error whose message may be shown to a person."""


class InputError(BrumelError):
    """One fault of the input."""

    def __init__(
        self,
        field: str,
        message: str,
        *,
        value: object = None,
        low: float | None = None,
        high: float | None = None,
        unit: str = "",
    ) -> None:
        super().__init__(message)
        self.field, self.value, self.low, self.high, self.unit = field, value, low, high, unit

    @property
    def faults(self) -> tuple[InputError, ...]:
        return (self,)


class NotANumber(InputError):
    """The value is empty, text, NaN or infinite."""

    def __init__(self, field: str, value: object) -> None:
        shown = "empty" if value is None or value == "" else f"“{_short(value)}”"
        super().__init__(
            field, f"{sentence_label(field)} must be a number; it is {shown}.", value=value, unit=unit_of(field)
        )


class OutOfRange(InputError):
    """The number is outside what is allowed."""

    def __init__(
        self, field: str, value: float, low: float, high: float, unit: str | None = None, why: str = ""
    ) -> None:
        unit = unit_of(field) if unit is None else unit
        outside = say(
            "{label} {value} is outside {span}.",
            label=sentence_label(field),
            value=Amount(value, unit, ".6g"),
            span=Span(low, high, unit),
        )
        super().__init__(field, joined((outside, why)) if why else outside, value=value, low=low, high=high, unit=unit)


class UnknownName(InputError):
    """The name is not one of the known ones."""

    def __init__(self, field: str, value: object, known: Iterable[str]) -> None:
        names = sorted(known)
        near = difflib.get_close_matches(str(value), names, 1)
        hint = f" Did you mean “{near[0]}”?" if near else f" Known: {', '.join(names[:12])}."
        super().__init__(field, f"{sentence_label(field)} “{_short(value)}” is not known.{hint}", value=value)


class WrongShape(InputError):
    """An array is empty or its length does not match its neighbour's."""


class CannotFit(InputError):
    """The points do not make a calibration."""


class InputErrors(InputError):
    """Several faults found in one go."""

    def __init__(self, faults: Sequence[InputError]) -> None:
        self._faults = tuple(faults)
        super().__init__(
            ", ".join(f.field for f in faults), joined(words_of(f) for f in faults), value=[f.value for f in faults]
        )

    @property
    def faults(self) -> tuple[InputError, ...]:
        return self._faults


def words_of(error: BaseException) -> str:
    """An error's message as it was made, with the values of its sentence where it has them."""
    return error.args[0] if error.args and isinstance(error.args[0], str) else str(error)


def _short(value: object) -> str:
    text = str(value)
    return text if len(text) <= 40 else text[:39] + "…"
