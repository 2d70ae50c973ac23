"""The tables by name. Evidence (samples, points, readings, calibrations) is only ever added to."""

from brumel.store.base import Base, Json, Uuid
from brumel.store.bench import Calibration, Dip, Point, Run, RunEnd, Sample, Sitting, Superseding
from brumel.store.desk import Audit, RateLimit, Truth, WriteKey
from brumel.store.kit import (
    Count,
    Fitting,
    Inspection,
    LinkSession,
    Lot,
    Meter,
    MethodVersion,
    Probe,
    Snapshot,
    Upkeep,
    User,
)
from brumel.store.sites import Client, Reading, Site, SiteTerms, Visit, VisitProbe

__all__ = [
    "Audit",
    "Base",
    "Calibration",
    "Client",
    "Count",
    "Dip",
    "Fitting",
    "Inspection",
    "Json",
    "LinkSession",
    "Lot",
    "Meter",
    "MethodVersion",
    "Point",
    "Probe",
    "RateLimit",
    "Reading",
    "Run",
    "RunEnd",
    "Sample",
    "Site",
    "SiteTerms",
    "Sitting",
    "Snapshot",
    "Superseding",
    "Truth",
    "Upkeep",
    "User",
    "Uuid",
    "Visit",
    "VisitProbe",
    "WriteKey",
]
