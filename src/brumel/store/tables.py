"""The tables by name. Evidence (samples, points, readings, calibrations) is only ever added to."""

from brumel.store.base import Base, Json, Uuid
from brumel.store.bench import Calibration, CalibrationSession, CalibrationWithdrawal, Dip, Point, Run, RunEnd, Sample
from brumel.store.desk import Audit, RateLimit, SignIn, Truth, WriteKey
from brumel.store.kit import (
    Count,
    Inspection,
    LinkSession,
    Lot,
    Maintenance,
    Meter,
    MeterSettings,
    MethodVersion,
    Probe,
    ProbeInstallation,
    SpareUse,
    User,
)
from brumel.store.sites import Client, Reading, Site, SiteTerms, Visit, VisitProbe

__all__ = [
    "Audit",
    "Base",
    "Calibration",
    "CalibrationSession",
    "CalibrationWithdrawal",
    "Client",
    "Count",
    "Dip",
    "Inspection",
    "Json",
    "LinkSession",
    "Lot",
    "Maintenance",
    "Meter",
    "MeterSettings",
    "MethodVersion",
    "Point",
    "Probe",
    "ProbeInstallation",
    "RateLimit",
    "Reading",
    "Run",
    "RunEnd",
    "Sample",
    "SignIn",
    "Site",
    "SiteTerms",
    "SpareUse",
    "Truth",
    "User",
    "Uuid",
    "Visit",
    "VisitProbe",
    "WriteKey",
]
