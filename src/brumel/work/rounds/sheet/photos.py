"""Photos of a visit: checked, drawn afresh, their position taken out unless it is wanted."""

from __future__ import annotations

import io
import re
import threading
import uuid
import warnings
from typing import Any

from PIL import ExifTags, Image, ImageOps, UnidentifiedImageError
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from brumel.core.errors import InputError
from brumel.core.sentence import Amount, say
from brumel.store.rounds import Photo
from brumel.store.tables import Visit
from brumel.work.desk import NotFound, Refused, Write, Written, object_id, writes
from brumel.work.rounds.sheet.sheet import visit_of as find_visit

MOST_BYTES = 12_000_000


#: A baseline JPEG is decoded at the size it is wanted in; whatever is decoded whole takes memory by its pixels.
MOST_PIXELS = 60_000_000


MOST_PIXELS_WHOLE = 24_000_000


#: One photo at a time in a process: eight at once take eight times as long, not eight times the memory.
_alone = threading.Lock()


LONGEST_SIDE = 1600


MOST_A_VISIT = 20


KINDS = ("JPEG", "PNG", "WEBP")


def redraw(data: bytes, *, keep_position: bool = False) -> tuple[bytes, int, int, tuple[float, float] | None]:
    """A photo as a fresh JPEG without any metadata: bytes, width, height, and its position where that is wanted.

    Raises InputError where it is too big, of another kind, or no picture at all.
    """
    if not data:
        raise InputError("photo", "The photo is empty.")
    if len(data) > MOST_BYTES:
        raise InputError(
            "photo",
            say(
                "The photo has {data}; {most_bytes} are taken.",
                data=Amount(len(data) / 1000000.0, "MB", ".0f"),
                most_bytes=Amount(MOST_BYTES / 1000000.0, "MB", ".0f"),
            ),
        )
    try:
        with _alone, warnings.catch_warnings():
            warnings.simplefilter("error", Image.DecompressionBombWarning)
            with Image.open(io.BytesIO(data), formats=KINDS) as image:
                is_whole = image.format != "JPEG" or bool(image.info.get("progressive"))
                if image.width * image.height > (MOST_PIXELS_WHOLE if is_whole else MOST_PIXELS):
                    raise InputError("photo", f"The photo has {image.width} × {image.height} points; that is too many.")
                where = _position(image) if keep_position else None
                image.thumbnail((LONGEST_SIDE, LONGEST_SIDE))  # first, so that all that follows is small
                upright = ImageOps.exif_transpose(image).convert("RGB")
                out = io.BytesIO()
                upright.save(out, "JPEG", quality=82, optimize=True)
                return out.getvalue(), upright.width, upright.height, where
    except InputError:
        raise
    except (UnidentifiedImageError, Image.DecompressionBombError, Warning, OSError, ValueError, SyntaxError):
        raise InputError("photo", "The photo is not a JPEG, PNG or WebP picture, or it is damaged.") from None


def _position(image: Image.Image) -> tuple[float, float] | None:
    gps = image.getexif().get_ifd(ExifTags.IFD.GPSInfo)
    try:
        north = _degrees(gps[2]) * (-1 if gps.get(1) == "S" else 1)
        east = _degrees(gps[4]) * (-1 if gps.get(3) == "W" else 1)
    except (KeyError, TypeError, ValueError, ZeroDivisionError, IndexError):
        return None
    return (north, east) if abs(north) <= 90 and abs(east) <= 180 else None


def _degrees(parts: Any) -> float:
    return float(parts[0]) + float(parts[1]) / 60 + float(parts[2]) / 3600


def clean_name(name: str) -> str:
    """A file name as it may be shown: its last part, letters and figures only, never a path."""
    last = re.split(r"[\\/]", name)[-1]
    return re.sub(r"[^\w.\- ]", "_", last).strip(" .")[:80] or "photo"


@writes("visit.photo", Written)
def add(w: Write, *, visit_id: str, name: str, data: bytes, keep_position: bool = False) -> Written:
    """Put a photo to a visit."""
    photo = put_on(w, find_visit(w.session, visit_id), name, data, keep_position=keep_position)
    w.record(f"visit:{visit_id}", {"photo": photo.name, "bytes": len(photo.jpeg)})
    return Written(str(photo.id))


def put_on(w: Write, visit: Visit, name: str, data: bytes, *, keep_position: bool = False) -> Photo:
    """A photo for a visit, inside a write."""
    jpeg, width, height, where = redraw(data, keep_position=keep_position)
    count = w.session.scalar(select(func.count()).select_from(Photo).where(Photo.visit_id == visit.id)) or 0
    if count >= MOST_A_VISIT:
        raise Refused(f"A visit takes {MOST_A_VISIT} photos.")
    photo = Photo(
        id=uuid.uuid4(),
        visit_id=visit.id,
        name=clean_name(name),
        width=width,
        height=height,
        jpeg=jpeg,
        latitude=where[0] if where else None,
        longitude=where[1] if where else None,
        at=w.now,
        by_id=w.actor.id,
    )
    w.session.add(photo)
    w.session.flush()
    return photo


def picture(session: Session, photo_id: str) -> bytes:
    """The bytes of one photo."""
    photo = session.get(Photo, object_id(photo_id, "photo"))
    if photo is None:
        raise NotFound("There is no such photo.")
    return photo.jpeg
