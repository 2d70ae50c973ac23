"""Documents as they were issued: numbered, kept byte by byte, and found again."""

from __future__ import annotations

import hashlib
import uuid
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session, undefer

from brumel.store.documents import Document
from brumel.work.desk import NotAllowed, NotFound, Write, Written, object_id, writes


@dataclass(frozen=True)
class Issue:
    """What is issued. `body` makes the PDF of its label, "TWS-0012", and says of how many pages it is."""

    kind: str
    title: str
    subject: Mapping[str, str] = field(default_factory=dict)
    client_id: uuid.UUID | None = None
    prefix: str = ""


def label_of(prefix: str, number: int) -> str:
    """How a document is called: the practice's prefix and its number."""
    return f"{prefix}{number:04d}"


@writes("document.issue", Written)
def issue(w: Write, *, what: Issue, body: Any) -> Written:
    """Number a document and keep it as it is. `body` is called with its label and gives the PDF and its pages."""
    if w.actor.role not in ("technician", "lead"):
        raise NotAllowed("Documents are issued by the practice.")
    # The number comes first: it stands on every page. One that is not used up leaves a gap, which its rollback explains.
    number = w.session.scalar(select(func.nextval(func.pg_get_serial_sequence("documents", "number"))))
    label = label_of(what.prefix, int(number or 0))
    pdf, pages = body(label)
    row = Document(
        id=uuid.uuid4(),
        number=number,
        kind=what.kind,
        title=what.title,
        label=label,
        client_id=what.client_id,
        subject=dict(what.subject),
        pages=pages,
        sha256=hashlib.sha256(pdf).hexdigest(),
        body=pdf,
        at=w.now,
        by_id=w.actor.id,
    )
    w.session.add(row)
    w.record(f"document:{row.id}", {"label": label, "kind": what.kind, "title": what.title, "sha256": row.sha256})
    return Written(str(row.id))


#: Documents on one page of their list.
PAGE = 40


def issued(session: Session, page: int = 1) -> tuple[list[Document], int]:
    """One page of the issued documents, newest first, and how many there are."""
    total = session.scalar(select(func.count()).select_from(Document)) or 0
    query = select(Document).order_by(Document.number.desc()).offset((page - 1) * PAGE).limit(PAGE)
    return list(session.scalars(query)), total


def document(session: Session, document_id: str, *, whole: bool = False) -> Document:
    """An issued document; `whole` with its bytes. Raises NotFound."""
    query = select(Document).where(Document.id == object_id(document_id, "document"))
    row = session.scalar(query.options(undefer(Document.body)) if whole else query)
    if row is None:
        raise NotFound("There is no such document.")
    return row
