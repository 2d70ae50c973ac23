"""Documents released to clients: by a link that runs out, and to the client's own people."""

from __future__ import annotations

import secrets
import uuid
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.exc import IntegrityError
from sqlalchemy.orm import Session, defer, lazyload

from brumel.core.errors import InputError
from brumel.store.documents import Document, Release, ReleaseEnd
from brumel.store.records import Signature
from brumel.store.standing import is_standing
from brumel.store.tables import Reading, Site, User
from brumel.work.desk import MovedOn, NotAllowed, NotFound, Refused, Write, Written, object_id, token_hash, writes
from brumel.work.quantities import names as quantity_names
from brumel.work.records.issuing import document

#: For how many days a link may be good.
DAYS = (7, 30, 90, 365)


@dataclass(frozen=True)
class Released:
    """A release, and the token of its link; it is shown once."""

    id: str
    token: str = ""


@writes("document.release", Released, secret=frozenset({"token"}))
def release(w: Write, *, document_id: str, days: int) -> Released:
    """Release a document to its client. Only the lead does; a document of no single client stays in the practice."""
    if w.actor.role != "lead":
        raise NotAllowed("Releasing documents is for the lead.")
    row = document(w.session, document_id)
    if row.client_id is None:
        raise Refused("This document is not of one client alone, so it cannot be released to one.")
    if days not in DAYS:
        raise InputError("days", f"Days must be one of {', '.join(map(str, DAYS))}.", value=days)
    token = secrets.token_urlsafe(32)
    made = Release(
        id=uuid.uuid4(),
        document_id=row.id,
        token_hash=token_hash(token),
        expires_at=w.now + timedelta(days=days),
        at=w.now,
        by_id=w.actor.id,
    )
    w.session.add(made)
    w.record(f"document:{row.id}", {"released": row.label, "days": days})
    return Released(str(made.id), token)


@writes("document.take_back", Written)
def take_back(w: Write, *, release_id: str) -> Written:
    """End a release: its link opens nothing any more, and the client's people no longer see the document by it."""
    if w.actor.role != "lead":
        raise NotAllowed("Taking a release back is for the lead.")
    row = w.session.get(Release, object_id(release_id, "release"))
    if row is None:
        raise NotFound("There is no such release.")
    w.session.add(ReleaseEnd(release_id=row.id, at=w.now, by_id=w.actor.id))
    try:
        w.session.flush()
    except IntegrityError as error:
        raise MovedOn("This release was taken back already.") from error
    w.record(f"document:{row.document_id}", {"taken back": row.document.label})
    return Written(str(row.document_id))


def releases_of(session: Session, document_id: uuid.UUID) -> list[Release]:
    """The releases of a document, newest first."""
    query = select(Release).where(Release.document_id == document_id).order_by(Release.at.desc())
    return list(session.scalars(query.options(defer(Release.token_hash))))


def by_token(session: Session, token: str, now: datetime, *, whole: bool = False) -> Document:
    """The document of a link. Raises NotFound where it ran out, was taken back, or never was."""
    row = session.scalar(select(Release).where(Release.token_hash == token_hash(token)))
    if row is None or row.ended is not None or row.expires_at <= now:
        raise NotFound("This link has run out, or was taken back. Ask the practice for a new one.")
    return document(session, str(row.document_id), whole=whole)


# -- what a client's person sees


def _client_of(person: User) -> uuid.UUID:
    if person.role != "client" or person.client_id is None:
        raise NotAllowed("This page is for the people of clients.")
    return person.client_id


def released_to(session: Session, person: User) -> list[Document]:
    """The documents released to this person's client and not taken back, newest first."""
    standing = select(Release.document_id).where(
        ~select(ReleaseEnd.release_id).where(ReleaseEnd.release_id == Release.id).exists()
    )
    query = select(Document).where(Document.client_id == _client_of(person), Document.id.in_(standing))
    return list(session.scalars(query.order_by(Document.number.desc())))


def released_document(session: Session, person: User, document_id: str) -> Document:
    """One of them with its file. Raises NotFound for any other, whether it exists or not."""
    wanted = object_id(document_id, "document")
    if wanted not in {row.id for row in released_to(session, person)}:
        raise NotFound("There is no such document.")
    return document(session, document_id, whole=True)


@dataclass(frozen=True)
class OwnSite:
    """A site of the client with what was last read, signed and reported there."""

    site: Site
    last: list[Reading]


def own_sites(session: Session, person: User) -> list[OwnSite]:
    """The sites of this person's client, each with its newest signed values that are reported."""
    query = select(Site).where(Site.client_id == _client_of(person), Site.retired_at.is_(None)).order_by(Site.name)
    sites = list(session.scalars(query))
    signed = select(Signature.reading_id).where(Signature.reading_id == Reading.id)
    newest = (
        select(Reading)
        .where(
            Reading.site_id.in_([s.id for s in sites]),
            Reading.role == "first",
            Reading.backing.not_in(("not reported", "doubtful")),
            is_standing(),
            signed.exists(),
        )
        .distinct(Reading.site_id, Reading.quantity)
        .order_by(Reading.site_id, Reading.quantity, Reading.at.desc())
        .options(lazyload("*"), defer(Reading.working), defer(Reading.settling), defer(Reading.findings))
    )
    by_site: dict[uuid.UUID, list[Reading]] = {}
    for row in session.scalars(newest):
        by_site.setdefault(row.site_id, []).append(row)
    for rows in by_site.values():
        rows.sort(key=lambda r: quantity_names.ORDER.get(r.quantity, 99))
    return [OwnSite(site, by_site.get(site.id, [])) for site in sites]
