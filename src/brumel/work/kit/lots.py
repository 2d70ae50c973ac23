"""Solutions by lot: added, opened, discarded, and what speaks against using one."""

from __future__ import annotations

import re
import uuid
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core.errors import InputError, OutOfRange
from brumel.core.ph import Buffer
from brumel.core.quantity_table import IONS
from brumel.core.redox import ELECTRODES
from brumel.core.sentence import Amount, say
from brumel.store.tables import Count, Lot
from brumel.store.typed_json import LotMeasure
from brumel.work.desk import NotFound, Refused, Write, Written, clean_reason, object_id, writes
from brumel.work.kit import labels
from brumel.work.kit.meters import raise_faults
from brumel.work.kit.stock import Left, left_of_lots, lots_with_left
from brumel.work.quantities import standards
from brumel.work.quantities.book import quantity_of


@dataclass(frozen=True)
class LotView:
    """A lot with whatever speaks against using it."""

    lot: Lot
    objections: tuple[str, ...]
    left: Left | None = None

    @property
    def buffer(self) -> Buffer:
        """The table of a pH buffer."""
        return standards.buffer_of(self.lot)

    @property
    def quantities(self) -> tuple[str, ...]:
        """What it is a standard of."""
        return tuple(self.lot.measures)

    def nominal(self, quantity: str) -> float:
        """Its value at 25 °C for a quantity."""
        return standards.nominal(self.lot, quantity)

    def stated(self, quantity: str) -> str:
        """Value and expanded uncertainty in one line, as "1413 µS/cm ± 1 %"."""
        unit, usual = standards.LABELS[quantity].u_unit, standards.LABELS[quantity].u
        u = say("± {u}", u=Amount(standards.label_uncertainty(self.lot, quantity) or usual, "%" if unit == "%" else ""))
        return f"{quantity_of(quantity).with_unit(self.nominal(quantity))} {u}"

    @property
    def usable(self) -> bool:
        return not self.objections


def lot_view(lot: Lot, now: datetime, left: Left | None = None) -> LotView:
    """The lot as of now: used up by the count, expired, open too long, or discarded."""
    objections = []
    if left is not None and left.amount is not None and left.amount <= 0:
        objections.append(f"{lot.code}: {'none is left' if lot.single_use else 'the bottle is empty'} by the count.")
    if lot.discarded_at and lot.discarded_at <= now:
        objections.append(
            say("{code} was discarded on {discarded_at:date}.", code=lot.code, discarded_at=lot.discarded_at)
        )
    if lot.parent and lot.parent.discarded_at and lot.parent.discarded_at <= now:
        objections.append(f"{lot.parent.code}, the bottle {lot.code} was filled from, was discarded.")
    if lot.expires_on < now:
        objections.append(say("{code} expired on {expires_on:date}.", code=lot.code, expires_on=lot.expires_on))
    if not lot.single_use and lot.opened_at and lot.opened_at + timedelta(days=lot.open_days) < now:
        age = (now - lot.opened_at).days
        objections.append(f"{lot.code} has been open for {age} days; {lot.open_days} are allowed.")
    return LotView(lot, tuple(objections), left)


def lots_on_shelf(session: Session, now: datetime) -> list[LotView]:
    """All lots not discarded, those in date first."""
    rows = lots_with_left(session, Lot.discarded_at.is_(None))
    return sorted(
        (lot_view(lot, now, left) for lot, left in rows),
        key=lambda v: (len(v.objections), *sorted(v.quantities)[:1], v.lot.code),
    )


def lot_as_of(session: Session, lot_id: str, now: datetime) -> LotView:
    """One lot, discarded or not, by its id; NotFound where there is none."""
    return lot_view(lot := _lot(session, lot_id), now, left_of_lots(session, [lot])[lot.id])


def is_coded(lot: Lot, typed: str) -> bool:
    """Whether a code as it was typed or scanned is this lot's, or begins it; case, blanks and dashes do not matter."""
    return _plain(lot.code).startswith(_plain(typed))


def _plain(code: str) -> str:
    return re.sub(r"[^0-9a-z]", "", code.lower())


_CODE = re.compile(r"^[A-Za-z0-9][A-Za-z0-9._/-]{0,29}$")


CONTAINERS = {
    "bottle": "bottle",
    "sachet": "sachet, for a single use",
    "tablet": "made from a tablet, for a single use",
    "made": "made up here",
    "aliquot": "filled off from another bottle",
}


SINGLE_USE = ("sachet", "tablet")


@dataclass(frozen=True)
class NewMeasure:
    """What a lot is a standard of, as it was typed: `label` holds lines of "temperature: value", empty for the table's.

    unit : of values that have none behind them, empty for the quantity's own; factor : of a label in ppm or ppt
    """

    quantity: str
    family: str = ""
    label: str = ""
    expanded_uncertainty: float | None = None
    basis: str = ""
    against: str = ""
    strength: float | None = None
    unit: str = ""
    factor: float | None = None


#: A line of a certificate.
LONGEST_TRACE = 120


@dataclass(frozen=True)
class NewLot:
    """A lot as it was typed; a combined solution measures two things."""

    code: str
    name: str
    measures: tuple[NewMeasure, ...]
    expires_on: str
    open_days: float | None
    container: str
    traceable_to: str = ""


def _measure(new: NewMeasure, faults: list[InputError]) -> LotMeasure:
    """One measure of a lot, checked; faults are added to the list."""
    if new.quantity not in standards.LABELS:
        faults.append(InputError("quantity", "Choose what the solution is a standard of.", value=new.quantity))
        return LotMeasure()
    if new.unit and new.unit not in labels.label_units(new.quantity):
        faults.append(InputError("unit", "Choose the label's unit from the list.", value=new.unit))
    label = labels.read_label(new.quantity, new.label, new.unit, new.factor, faults)
    families = standards.families(new.quantity)
    if label is None and new.family not in families:
        words = "the buffer's table" if new.quantity == "ph" else "a table of the list"
        faults.append(InputError("family", f"Choose {words}, or type the label of the lot."))
    unit = standards.LABELS[new.quantity].u_unit
    low, high = {"pH": (0.001, 0.2), "%": (0.05, 20.0), "mV": (0.5, 50.0), "mg/L": (0.001, 1.0)}[unit]
    u = new.expanded_uncertainty
    if u is None or not low <= u <= high:
        faults.append(OutOfRange("expanded_uncertainty", u or 0.0, low, high, unit))
    if new.quantity in IONS:
        if new.basis not in ("activity", "concentration"):
            faults.append(InputError("basis", "Say whether the label states activity or concentration, as N."))
        if new.strength is not None and not 0 < new.strength <= 0.5:
            faults.append(OutOfRange("ionic_strength_mol_l", new.strength, 0, 0.5))
    if new.quantity == "redox" and label is not None and new.against not in ELECTRODES:
        faults.append(InputError("electrode", "Say against which reference electrode the label states its value."))
    family = new.family if new.family in families else "label"
    extra = {"basis": new.basis, "against": new.against, "strength": new.strength}
    if label is not None:
        extra |= {"printed": new.label.strip(), "unit": new.unit, "factor": new.factor}
    return LotMeasure(family=family, label=label, u=u, **{k: v for k, v in extra.items() if v})


def _code(w: Write, typed: str, faults: list[InputError]) -> str:
    """The code of a new lot; a fault is added where it is none, or taken."""
    code = typed.strip()
    if not _CODE.match(code):
        faults.append(InputError("code", "Lot code takes letters, digits, . _ / and -, at most 30."))
    elif w.session.scalar(select(Lot.id).where(Lot.code == code)):
        faults.append(InputError("code", f"Lot code “{code}” is on the shelf already."))
    return code


@writes("lot.add", Written)
def add_lot(w: Write, new: NewLot) -> Written:
    """Put a new lot on the shelf. All faults at once."""
    faults: list[InputError] = []
    code, name = _code(w, new.code, faults), " ".join(new.name.split())
    if not 2 <= len(name) <= 60:
        faults.append(InputError("name", "Name must have 2 to 60 characters."))
    if not new.measures:
        faults.append(InputError("quantity", "Choose what the solution is a standard of."))
    measures = {m.quantity: _measure(m, faults) for m in new.measures}
    if new.open_days is None or not 1 <= new.open_days <= 730 or new.open_days != int(new.open_days):
        faults.append(InputError("open_days", "Days it keeps once open must be a whole number from 1 to 730."))
    if new.container not in CONTAINERS or new.container == "aliquot":
        faults.append(InputError("container", "Choose the container from the list."))
    traceable_to = " ".join(new.traceable_to.replace("\x00", "").split())
    if len(traceable_to) > LONGEST_TRACE:
        faults.append(InputError("traceable_to", f"Traceable to must have at most {LONGEST_TRACE} characters."))
    expires = _day(new.expires_on, faults)
    raise_faults(faults)
    lot = Lot(
        id=uuid.uuid4(),
        code=code,
        name=name,
        measures=measures,
        container=new.container,
        expires_on=expires,
        open_days=int(new.open_days or 0),
        single_use=new.container in SINGLE_USE,
        traceable_to=traceable_to,
    )
    if fault := labels.name_fault(name, measures, {q: standards.nominal(lot, q) for q in measures}):
        raise fault
    w.session.add(lot)
    w.session.flush()
    w.record(
        f"lot:{lot.id}",
        {
            "code": code,
            "name": name,
            "traceable_to": traceable_to,
            "measures": {k: m.model_dump(mode="json", exclude_unset=True) for k, m in measures.items()},
        },
    )
    return Written(str(lot.id))


def _day(text: str, faults: list[InputError]) -> datetime | None:
    try:
        midnight = datetime.strptime(text.strip(), "%Y-%m-%d").replace(tzinfo=UTC)
    except ValueError:
        faults.append(InputError("expires_on", f"Expiry “{text[:20]}” is not a date like 2027-05-31."))
        return None
    if not 2000 <= midnight.year <= 2100:
        faults.append(InputError("expires_on", f"Expiry {midnight.year} is not a year between 2000 and 2100."))
        return None
    return midnight + timedelta(days=1, seconds=-1)


def _lot(session: Session, lot_id: str) -> Lot:
    lot = session.get(Lot, object_id(lot_id, "solution"))
    if lot is None:
        raise NotFound("There is no such solution.")
    return lot


@writes("lot.open", Written)
def open_lot(w: Write, *, lot_id: str) -> Written:
    """The bottle was opened now; its open life starts."""
    lot = _lot(w.session, lot_id)
    if lot.opened_at or lot.discarded_at:
        raise Refused(f"{lot.code} is {'discarded' if lot.discarded_at else 'open'} already.")
    lot.opened_at = w.now
    w.record(f"lot:{lot.id}", {"code": lot.code})
    return Written(str(lot.id))


@dataclass(frozen=True)
class NewAliquot:
    """A part of a bottle as it was filled off, as it was typed: how much [mL], and how long it keeps [d]."""

    code: str
    amount_ml: float | None
    keeps_days: float | None


@writes("lot.fill_off", Written)
def fill_off(w: Write, *, lot_id: str, new: NewAliquot) -> Written:
    """A part of a bottle is filled into another one: a lot of its own that knows where it came from. All faults at once.

    It is what its parent is, never keeps longer, and is taken off what is left of it.
    """
    ((parent, left),) = lots_with_left(w.session, Lot.id == _lot(w.session, lot_id).id)
    view = lot_view(parent, w.now, left)
    if parent.single_use or parent.parent_id:
        raise Refused(f"{parent.code} is not filled off: it is {CONTAINERS[parent.container]}.")
    if view.objections:
        raise Refused(" ".join(map(str, view.objections)))
    faults: list[InputError] = []
    code = _code(w, new.code, faults)
    if new.amount_ml is None or not 1 <= new.amount_ml <= 5000:
        faults.append(OutOfRange("amount", new.amount_ml or 0.0, 1, 5000, "mL"))
    elif left.amount is not None and new.amount_ml > left.amount:
        faults.append(
            InputError("amount", say("{code} holds {words} by the count.", code=parent.code, words=left.words))
        )
    if new.keeps_days is None or not 1 <= new.keeps_days <= 730 or new.keeps_days != int(new.keeps_days):
        faults.append(InputError("open_days", "Days it keeps must be a whole number from 1 to 730."))
    raise_faults(faults)
    parent.opened_at = parent.opened_at or w.now
    ends = [parent.expires_on, parent.opened_at + timedelta(days=parent.open_days)]
    lot = Lot(
        id=uuid.uuid4(),
        code=code,
        name=parent.name,
        measures=parent.measures,
        container="aliquot",
        expires_on=min(ends),
        opened_at=w.now,
        open_days=int(new.keeps_days or 0),
        single_use=False,
        traceable_to=parent.traceable_to,
        parent_id=parent.id,
    )
    w.session.add(lot)
    w.session.flush()
    amount = float(new.amount_ml or 0.0)
    counts = [(lot.id, amount, f"filled off from {parent.code}")]
    if left.amount is not None:
        counts.append((parent.id, left.amount - amount, f"{code} filled off"))
    for of, there_is, why in counts:
        w.session.add(Count(id=uuid.uuid4(), lot_id=of, amount=there_is, reason=why, at=w.now, by_id=w.actor.id))
    w.record(f"lot:{lot.id}", {"code": code, "from": parent.code, "amount": amount})
    return Written(str(lot.id))


@writes("lot.discard", Written)
def discard_lot(w: Write, *, lot_id: str, reason: str) -> Written:
    """The lot is poured away, as local rules say; runs that used it keep it in their record."""
    lot, why = _lot(w.session, lot_id), clean_reason(reason)
    if lot.discarded_at:
        raise Refused(f"{lot.code} is discarded already.")
    lot.discarded_at = w.now
    w.record(f"lot:{lot.id}", {"code": lot.code, "reason": why})
    return Written(str(lot.id))
