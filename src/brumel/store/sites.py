"""The tables of what is read where: clients, sites, visits, readings."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING, Any

from sqlalchemy import ForeignKey, Index, UniqueConstraint, select, text
from sqlalchemy.orm import Mapped, column_property, mapped_column, relationship

from brumel.store.base import Base, Json, Uuid, uuid_key
from brumel.store.bench import Calibration
from brumel.store.kit import Probe, User

if TYPE_CHECKING:
    from brumel.store.rounds import Outing, Photo


class Client(Base):
    """Who the water belongs to."""

    __tablename__ = "clients"
    id: Mapped[Uuid] = uuid_key()
    name: Mapped[str] = mapped_column(unique=True)
    note: Mapped[str] = mapped_column(default="")
    retired_at: Mapped[datetime | None]


class Site(Base):
    """A place that is read: where it is, what it is used for, and its terms as they stand (`SiteTerms` keeps them all).

    `ranges` {quantity: {usual, gross}}, `limits` {quantity: {low, high, source}}, `water` how its salt and solids are
    worked out, `depths` the points of a profile [m].
    """

    __tablename__ = "sites"
    id: Mapped[Uuid] = uuid_key()
    client_id: Mapped[Uuid] = mapped_column(ForeignKey("clients.id"), index=True)
    name: Mapped[str]
    kind: Mapped[str]
    use: Mapped[str] = mapped_column(default="")
    zone: Mapped[str]
    altitude_m: Mapped[float]
    latitude: Mapped[float | None]
    longitude: Mapped[float | None]
    depths: Mapped[list[Any]] = mapped_column(default=list)
    ranges: Mapped[Json]
    limits: Mapped[Json] = mapped_column(default=dict)
    water: Mapped[Json] = mapped_column(default=dict)
    terms_version: Mapped[int] = mapped_column(default=1)
    note: Mapped[str] = mapped_column(default="")
    retired_at: Mapped[datetime | None]
    owner: Mapped[Client] = relationship(lazy="joined")
    __table_args__ = (Index("sites_one_name", "client_id", "name", unique=True),)

    @property
    def client(self) -> str:
        """The client's name."""
        return self.owner.name


class SiteTerms(Base):
    """The ranges, limits and use of a site as they were from a moment on, with who changed them and why."""

    __tablename__ = "site_terms"
    id: Mapped[Uuid] = uuid_key()
    site_id: Mapped[Uuid] = mapped_column(ForeignKey("sites.id"))
    version: Mapped[int]
    body: Mapped[Json]
    reason: Mapped[str]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (UniqueConstraint("site_id", "version"),)


class Visit(Base):
    """A technician at a site. What was known of air and water there, and notes, are `VisitNote`s: they come bit by bit."""

    __tablename__ = "visits"
    id: Mapped[Uuid] = uuid_key()
    site_id: Mapped[Uuid] = mapped_column(ForeignKey("sites.id"))
    operator_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    outing_id: Mapped[Uuid | None] = mapped_column(ForeignKey("outings.id"), index=True)
    source: Mapped[str]
    at: Mapped[datetime]
    site: Mapped[Site] = relationship(lazy="joined")
    operator: Mapped[User] = relationship(lazy="joined")
    carried: Mapped[list[VisitProbe]] = relationship(lazy="selectin", order_by="VisitProbe.place")
    outing: Mapped[Outing | None] = relationship()
    #: without their bytes, oldest first
    photos: Mapped[list[Photo]] = relationship(viewonly=True, order_by="Photo.at")
    if TYPE_CHECKING:
        moved_to_id: Mapped[Uuid | None]
    __table_args__ = (
        Index("visits_by_time", "at", "id"),
        Index("visits_by_site", "site_id", "at", "id"),
        Index("visits_by_person", "operator_id", "at", "id"),
    )

    @property
    def probes(self) -> list[Probe]:
        """The probes the site is read with, the first instrument's before the second's."""
        return [c.probe for c in self.carried]


class VisitProbe(Base):
    """A probe a site is read with; `role` is "first", or "second" for a second instrument beside the first."""

    __tablename__ = "visit_probes"
    visit_id: Mapped[Uuid] = mapped_column(ForeignKey("visits.id"), primary_key=True)
    probe_id: Mapped[Uuid] = mapped_column(ForeignKey("probes.id"), primary_key=True)
    place: Mapped[int]
    role: Mapped[str] = mapped_column(default="first")
    probe: Mapped[Probe] = relationship(lazy="joined")


class VisitMove(Base):
    """A visit that was written to the wrong site, and the visit that took its place at the right one."""

    __tablename__ = "visit_moves"
    visit_id: Mapped[Uuid] = mapped_column(ForeignKey("visits.id"), primary_key=True)
    moved_to_id: Mapped[Uuid] = mapped_column(ForeignKey("visits.id"), unique=True)
    reason: Mapped[str]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))


#: Where a visit that was written to the wrong site stands now; asked for only where a page needs it.
Visit.moved_to_id = column_property(
    select(VisitMove.moved_to_id).where(VisitMove.visit_id == Visit.id).scalar_subquery(), deferred=True
)


class Reading(Base):
    """A site reading. (`root_id`, `version`): a correction is a new row with a reason; the highest version stands.

    `parents` name the roots a derived value follows from; `decision_id` the decision that made this version. A `struck`
    version says that the reading does not count: no version of it stands any more.
    """

    __tablename__ = "readings"
    id: Mapped[Uuid] = uuid_key()
    root_id: Mapped[Uuid]
    version: Mapped[int]
    visit_id: Mapped[Uuid] = mapped_column(ForeignKey("visits.id"))
    site_id: Mapped[Uuid] = mapped_column(ForeignKey("sites.id"))
    quantity: Mapped[str]
    at: Mapped[datetime]
    probe_id: Mapped[Uuid | None] = mapped_column(ForeignKey("probes.id"))
    depth_m: Mapped[float | None]
    role: Mapped[str] = mapped_column(default="first")
    parents: Mapped[list[Any]] = mapped_column(default=list)
    dip_id: Mapped[Uuid | None] = mapped_column(ForeignKey("dips.id"))
    calibration_id: Mapped[Uuid | None] = mapped_column(ForeignKey("calibrations.id"))
    backing: Mapped[str]
    backing_words: Mapped[str]
    entered_as: Mapped[str]
    raw: Mapped[float]
    raw_unit: Mapped[str]
    temperature_c: Mapped[float | None]
    value: Mapped[float]
    unit: Mapped[str]
    expanded_uncertainty: Mapped[float | None]
    working: Mapped[Json]
    settling: Mapped[Json]
    findings: Mapped[list[Any]]
    flag: Mapped[int]
    outcome: Mapped[str] = mapped_column(default="")
    outcome_words: Mapped[str] = mapped_column(default="")
    grade: Mapped[str] = mapped_column(default="")
    decision_id: Mapped[Uuid | None] = mapped_column(ForeignKey("decisions.id"), index=True)
    struck: Mapped[bool] = mapped_column(default=False)
    reason: Mapped[str]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    written_at: Mapped[datetime]
    probe: Mapped[Probe | None] = relationship(lazy="joined")
    visit: Mapped[Visit] = relationship(lazy="joined")
    calibration: Mapped[Calibration | None] = relationship(lazy="joined")
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (
        UniqueConstraint("root_id", "version"),
        Index("readings_by_site", "site_id", "quantity", "at"),
        Index("readings_by_visit", "visit_id", "quantity"),
        Index("readings_by_time", "at"),
        Index("readings_by_calibration", "calibration_id", "at"),
        # Few readings are odd, or have a reason: they are found without a walk through all the others.
        Index("readings_beyond", "visit_id", postgresql_where=text("outcome = 'exceeded'")),
        Index("readings_flagged", "visit_id", postgresql_where=text("flag > 2")),
        Index("readings_reasoned", "visit_id", postgresql_where=text("reason <> ''")),
        Index("readings_backed", "backing", "visit_id", postgresql_where=text("backing <> 'bracketed'")),
    )
