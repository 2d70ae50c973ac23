"""The tables of a day out: rounds, outings, notes and photos of visits."""

from __future__ import annotations

import uuid
from datetime import date, datetime

from sqlalchemy import ForeignKey, Identity, Index, String, UniqueConstraint, cast, func, select, text
from sqlalchemy.dialects.postgresql import JSONB, aggregate_order_by
from sqlalchemy.orm import Mapped, column_property, mapped_column, relationship

from brumel.store.tables import Base, Json, Site, User, Uuid
from brumel.store.typed_json import Packed, TypedJson


class Round(Base):
    """Sites in their order, and when they are due: `rule` is an RFC 5545 recurrence from `starts` on, in `zone`."""

    __tablename__ = "rounds"
    __table_args__ = (Index("rounds_one_name", "name", unique=True, postgresql_where=text("retired_at is null")),)
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    name: Mapped[str]
    rule: Mapped[str] = mapped_column(default="")
    starts: Mapped[date]
    leave_at: Mapped[str] = mapped_column(default="08:00")
    zone: Mapped[str]
    note: Mapped[str] = mapped_column(default="")
    #: how it is gone: minutes at a site, km/h between sites, minutes there and home, and between the sites where typed
    site_min: Mapped[float] = mapped_column(default=20.0)
    speed_kmh: Mapped[float] = mapped_column(default=40.0)
    way_min: Mapped[float] = mapped_column(default=20.0)
    between_min: Mapped[float | None]
    retired_at: Mapped[datetime | None]
    stops: Mapped[list[RoundStop]] = relationship(
        lazy="selectin", order_by="RoundStop.place", cascade="all, delete-orphan"
    )

    @property
    def sites(self) -> list[Site]:
        """The sites in their order."""
        return [s.site for s in self.stops]


class RoundStop(Base):
    """One site of a round."""

    __tablename__ = "round_stops"
    round_id: Mapped[Uuid] = mapped_column(ForeignKey("rounds.id"), primary_key=True)
    place: Mapped[int] = mapped_column(primary_key=True)
    site_id: Mapped[Uuid] = mapped_column(ForeignKey("sites.id"))
    site: Mapped[Site] = relationship(lazy="joined")


class OutingEnd(Base):
    """Back from a round: when, and who said so."""

    __tablename__ = "outing_ends"
    outing_id: Mapped[Uuid] = mapped_column(ForeignKey("outings.id"), primary_key=True)
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))


class OutingPacking(Base):
    """What was ticked of a packing list, whole; the newest row of an outing counts."""

    __tablename__ = "outing_packings"
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    outing_id: Mapped[Uuid] = mapped_column(ForeignKey("outings.id"), index=True)
    packed: Mapped[Packed] = mapped_column(TypedJson(Packed))
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))


class OutingSettings(Base):
    """A meter's settings were checked for an outing against a snapshot; the newest row of a meter counts."""

    __tablename__ = "outing_settings"
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    outing_id: Mapped[Uuid] = mapped_column(ForeignKey("outings.id"), index=True)
    meter_id: Mapped[Uuid] = mapped_column(ForeignKey("meters.id"))
    snapshot_id: Mapped[Uuid] = mapped_column(ForeignKey("meter_settings.id"))
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))


class Outing(Base):
    """A round on a day, with the meter that is carried. It stays as it began; what happens to it are rows of their own."""

    __tablename__ = "outings"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    round_id: Mapped[Uuid] = mapped_column(ForeignKey("rounds.id"), index=True)
    day: Mapped[date]
    meter_id: Mapped[Uuid] = mapped_column(ForeignKey("meters.id"))
    operator_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    started_at: Mapped[datetime]
    ended_at: Mapped[datetime | None] = column_property(
        select(OutingEnd.at).where(OutingEnd.outing_id == id).correlate_except(OutingEnd).scalar_subquery()
    )
    last_packed: Mapped[Packed | None] = column_property(
        select(OutingPacking.packed)
        .where(OutingPacking.outing_id == id)
        .order_by(OutingPacking.id.desc())
        .limit(1)
        .correlate_except(OutingPacking)
        .scalar_subquery()
    )
    checked: Mapped[Json | None] = column_property(
        select(
            func.jsonb_object_agg(
                cast(OutingSettings.meter_id, String),
                aggregate_order_by(
                    func.jsonb_build_object(
                        "snapshot", OutingSettings.snapshot_id, "at", OutingSettings.at, "by", User.name
                    ),
                    OutingSettings.id,
                ),
                type_=JSONB,
            )
        )
        .join(User, OutingSettings.by_id == User.id)
        .where(OutingSettings.outing_id == id)
        .correlate_except(OutingSettings, User)
        .scalar_subquery()
    )
    round: Mapped[Round] = relationship(lazy="joined")
    operator: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (UniqueConstraint("round_id", "day"),)

    @property
    def packed(self) -> Packed:
        """What was ticked last of the packing list: {item: when}."""
        return self.last_packed or {}

    @property
    def settings(self) -> dict[str, dict[str, str]]:
        """Whose settings were checked against which snapshot: {meter: {snapshot, at, by}}."""
        return self.checked or {}


class VisitNote(Base):
    """Something said of a visit: a note, or the conditions there ({pressure_hpa, light, by_hand ...}); the newest stands."""

    __tablename__ = "visit_notes"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    visit_id: Mapped[Uuid] = mapped_column(ForeignKey("visits.id"), index=True)
    kind: Mapped[str]
    body: Mapped[Json]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))


class Photo(Base):
    """A photo of a visit, drawn afresh on upload; its position is kept only where it was asked for."""

    __tablename__ = "photos"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    visit_id: Mapped[Uuid] = mapped_column(ForeignKey("visits.id"), index=True)
    name: Mapped[str]
    width: Mapped[int]
    height: Mapped[int]
    jpeg: Mapped[bytes] = mapped_column(deferred=True)
    latitude: Mapped[float | None]
    longitude: Mapped[float | None]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
