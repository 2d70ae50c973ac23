"""The practice as its documents name it: name, address, picture, numbering, paper, dates and units."""

from __future__ import annotations

import io
from collections.abc import Mapping
from dataclasses import dataclass, field
from zoneinfo import available_timezones

from sqlalchemy import select
from sqlalchemy.orm import Session, undefer

from brumel.core.errors import InputError, InputErrors
from brumel.store.documents import Letterhead
from brumel.work.desk import NotAllowed, Write, Written, writes
from brumel.work.people import UNIT_CHOICES

PAPERS = ("A4", "Letter")
#: How dates are written: ISO 8601, or as people write them in a language, by its locale.
DATES = {
    "iso": "2026-11-27",
    "en_GB": "27 Nov 2026",
    "en_US": "Nov 27, 2026",
    "de": "27.11.2026",
    "fr": "27 nov. 2026",
    "es": "27 nov 2026",
    "nb": "27. nov. 2026",
    "sv": "27 nov. 2026",
}
#: On which day a week may begin, by the letters of RFC 5545.
FIRST_DAYS = ("MO", "SA", "SU")
LONGEST = {"name": 120, "address": 400, "prefix": 12}
#: A picture is drawn afresh into this many pixels at most.
MOST_PIXELS = (1200, 400)
MOST_BYTES = 4_000_000


@dataclass(frozen=True)
class Practice:
    """How documents are headed and written, as a form gives it. `picture` None keeps the one there is."""

    name: str = "Water records"
    address: str = ""
    prefix: str = ""
    paper: str = "A4"
    dates: str = "iso"
    units: Mapping[str, str] = field(default_factory=dict)
    zone: str = ""
    first_day: str = FIRST_DAYS[0]
    picture: bytes | None = None
    without_picture: bool = False


#: Documents before anybody said how they are headed.
UNNAMED = Practice()


def standing(session: Session) -> Letterhead | None:
    """The letterhead as it stands, None before the first."""
    newest = select(Letterhead).options(undefer(Letterhead.picture)).order_by(Letterhead.version.desc())
    return session.scalar(newest.limit(1))


def practice(session: Session) -> Practice:
    """The same as plain values, with its picture."""
    row = standing(session)
    if row is None:
        return UNNAMED
    return Practice(
        row.name, row.address, row.prefix, row.paper, row.dates, row.units, row.zone, row.first_day, row.picture
    )


def clock(session: Session) -> tuple[str, str]:
    """The zone of the practice's pages, empty where nobody said, and the day its week begins on. One query."""
    newest = select(Letterhead.zone, Letterhead.first_day).order_by(Letterhead.version.desc()).limit(1)
    found = session.execute(newest).first()
    return (found.zone, found.first_day) if found else ("", FIRST_DAYS[0])


@writes("practice.letterhead", Written)
def save(w: Write, *, practice: Practice) -> Written:
    """A new letterhead; documents that were issued keep the old one. Only the lead does it. All faults at once."""
    if w.actor.role != "lead":
        raise NotAllowed("The practice's letterhead is for the lead.")
    faults = [*_faults(practice)]
    picture = None
    try:
        picture = redraw(practice.picture) if practice.picture is not None else None
    except InputError as error:
        faults.append(error)
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    before = standing(w.session)
    if picture is None and before is not None and not practice.without_picture:
        picture = before.picture
    row = Letterhead(
        name=" ".join(practice.name.split()),
        address="\n".join(line.strip() for line in practice.address.strip().splitlines()),
        prefix=practice.prefix.strip(),
        paper=practice.paper,
        dates=practice.dates,
        units=dict(practice.units),
        zone=practice.zone.strip(),
        first_day=practice.first_day,
        picture=picture,
        at=w.now,
        by_id=w.actor.id,
    )
    w.session.add(row)
    w.session.flush()
    w.record(f"letterhead:{row.version}", {"name": row.name, "paper": row.paper, "dates": row.dates})
    return Written(str(row.version))


def _faults(practice: Practice) -> list[InputError]:
    faults = []
    for name, longest in LONGEST.items():
        text = getattr(practice, name)
        if len(text) > longest or "\x00" in text:
            faults.append(InputError(name, f"{name.capitalize()} has {len(text)} characters; {longest} are allowed."))
    if not practice.name.strip():
        faults.append(InputError("name", "Name of the practice must be filled in."))
    if practice.paper not in PAPERS:
        faults.append(InputError("paper", f"Paper must be one of {', '.join(PAPERS)}."))
    if practice.dates not in DATES:
        faults.append(InputError("dates", "Dates must be written in one of the ways of the list."))
    if practice.zone.strip() and practice.zone.strip() not in available_timezones():
        faults.append(InputError("zone", f"“{practice.zone[:40]}” is not a time zone; write it as Europe/Oslo."))
    if practice.first_day not in FIRST_DAYS:
        faults.append(InputError("first_day", "Choose the day a week begins on from the list."))
    faults += [
        InputError(what, f"Unit of {what} must be one of {', '.join(choices)}.")
        for what, choices in UNIT_CHOICES.items()
        if practice.units.get(what, choices[0]) not in choices
    ]
    return faults


def redraw(data: bytes) -> bytes:
    """A picture for the head of a page, as PNG: drawn afresh, so that nothing else that was in the file comes along."""
    from PIL import Image, UnidentifiedImageError

    if len(data) > MOST_BYTES:
        raise InputError("picture", f"Picture must be smaller than {MOST_BYTES // 1_000_000} MB.")
    try:
        with Image.open(io.BytesIO(data), formats=("PNG", "JPEG", "WEBP")) as image:
            if image.width * image.height > 40_000_000:
                raise InputError("picture", "Picture has more than 40 million pixels.")
            image.load()
            drawn = image.convert("RGBA")
    except (UnidentifiedImageError, OSError, ValueError, Image.DecompressionBombError) as error:
        raise InputError("picture", "Picture must be a PNG, JPEG or WebP file that can be opened.") from error
    drawn.thumbnail(MOST_PIXELS)
    out = io.BytesIO()
    drawn.save(out, "PNG", optimize=True)
    return out.getvalue()
