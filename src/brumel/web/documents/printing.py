"""From what a document is made of to its page and its PDF, in the practice's own way."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

from flask import render_template, url_for
from sqlalchemy.orm import Session

from brumel.formats.pdf import Press
from brumel.store.rounds import Photo
from brumel.store.tables import User
from brumel.web.dates import dates_of_document
from brumel.web.documents.kinds import Kind, Made
from brumel.web.records.certificates import FONTS, STATIC, inline_picture
from brumel.web.units import units_of_document
from brumel.work.records.letterhead import Practice

press = Press(FONTS, (STATIC / "css/print_base.css", STATIC / "css/document.css"), STATIC / "css/print_drawing.css")


@contextmanager
def in_the_way_of(practice: Practice) -> Iterator[None]:
    """Whatever is worked out and rendered meanwhile is in the units and dates of the practice."""
    with units_of_document(practice.units), dates_of_document(practice.dates):
        yield


def letterhead_picture(practice: Practice) -> str:
    """The picture at the head of a page, as it stands in the page; empty where there is none."""
    return inline_picture("png", practice.picture)


def _render(kind: Kind, made: Made, practice: Practice, **rest: Any) -> str:
    shown = {**made.values, "title": made.title, "kind_title": kind.title, "practice": practice}
    return render_template(made.template, **shown, letterhead_picture=letterhead_picture(practice), **rest)


def on_screen(kind: Kind, made: Made, practice: Practice, asker: User, **bar: Any) -> str:
    """The document as a page to look at and to print, not issued yet; `bar` is what its issuing has to name."""

    def picture_of(photo: Photo) -> str:
        return url_for("rounds.photo", photo_id=photo.id)

    seen = {"label": "", "issued_by": asker.name, "picture_of": picture_of, **bar}
    return _render(kind, made, practice, on_screen=True, **seen)


def as_pdf(
    session: Session, kind: Kind, made: Made, practice: Practice, asker: User, drawn: Callable[[], None]
) -> Callable[[str], tuple[bytes, int]]:
    """What makes the PDF of a label, with its number of pages; `drawn` is called before its pages are set."""

    def picture_of(photo: Photo) -> str:
        return inline_picture("jpeg", session.get_one(Photo, photo.id).jpeg)

    def body(label: str) -> tuple[bytes, int]:
        html = _render(kind, made, practice, on_screen=False, label=label, issued_by=asker.name, picture_of=picture_of)
        drawn()
        return press.document(html, practice.paper)

    return body
