"""What the API takes and gives. Their JSON schemas are the published ones; a name never changes its meaning.

Times are RFC 3339 with an offset; values are in the canonical unit that stands beside them or in the field's name.
"""

from __future__ import annotations

import uuid
from typing import Annotated, Any, Literal

from pydantic import AwareDatetime, BaseModel, ConfigDict, Field

from brumel.core.quantity_table import ON_SHEET
from brumel.work.records.feeds import MOST
from brumel.work.rounds.offline import MOST_SETS

QuantityKey = Annotated[str, Field(description="A key of the quantities, as ph or conductivity", max_length=40)]
#: QARTOD's flags, in the words of the readings' pages.
FLAGS = "QARTOD: 1 good, 2 not evaluated, 3 suspect, 4 fail, 9 missing"


class Answer(BaseModel):
    """What the API gives: every field named, nothing besides."""

    model_config = ConfigDict(extra="forbid")


class Asked(BaseModel):
    """What the API takes; a field or parameter that it does not know is refused, not passed over."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


# -- sites


class Limit(Answer):
    low: float | None
    high: float | None
    unit: str
    source: str = Field(description="Where the limit comes from, as the practice wrote it")


class Site(Answer):
    """A place that is read."""

    id: uuid.UUID
    client: str
    name: str
    kind: str
    use: str
    zone: str = Field(description="IANA name of its time zone")
    latitude: float | None = Field(description="Degrees north, WGS 84")
    longitude: float | None = Field(description="Degrees east, WGS 84")
    altitude_m: float
    depths_m: list[float]
    limits: dict[str, Limit] = Field(description="By quantity")
    terms_version: int
    retired: bool


class Sites(Answer):
    items: list[Site]


# -- kit


class MeterOf(Answer):
    id: uuid.UUID
    name: str
    serial: str
    firmware: str


class Probe(Answer):
    """A probe, and what it may be trusted for now."""

    id: uuid.UUID
    name: str
    serial: str
    quantity: QuantityKey
    meter: MeterOf
    in_service_since: AwareDatetime
    retired: bool
    valid: bool = Field(description="Whether a calibration backs its readings now")
    state: str = Field(description="The same in words")
    calibration_id: uuid.UUID | None
    valid_until: AwareDatetime | None
    ways_of_entering: dict[str, str] = Field(
        description="What its display may show: the word for `entered_as`, and the unit"
    )


class Probes(Answer):
    items: list[Probe]


class LotMeasure(Answer):
    value: float | None = Field(description="At 25 °C, in `unit`; none where its table says nothing there")
    unit: str
    label: dict[str, float] | None = Field(
        description="The label's own values by temperature in °C; none where a table holds"
    )
    expanded_uncertainty: float | None = Field(description="k = 2, in `uncertainty_unit`")
    uncertainty_unit: str


class Lot(Answer):
    """A solution by lot."""

    id: uuid.UUID
    code: str
    name: str
    container: str
    measures: dict[str, LotMeasure] = Field(description="What it is a standard of, by quantity")
    expires_on: AwareDatetime
    opened_at: AwareDatetime | None
    open_days: int
    discarded_at: AwareDatetime | None
    usable: bool
    objections: list[str]


class Lots(Answer):
    items: list[Lot]


class Due(Answer):
    """Something that falls due."""

    key: str
    what: Literal["probe", "lot", "round", "outing", "deployment"]
    words: str
    at: AwareDatetime
    timed: bool = Field(description="At that minute; else of that day")
    id: uuid.UUID | None = Field(description="Of the probe, round, outing or deployment")
    overdue: bool


class DueList(Answer):
    items: list[Due]


# -- calibrations


class Point(Answer):
    """A point that was taken, or withdrawn, in its version."""

    step: str
    title: str
    role: Literal["zero", "adjust", "check", "found", "left"]
    version: int
    withdrawn: bool
    lot: str | None
    expected: float | None
    expanded_uncertainty: float | None = Field(description="Of `expected`, k = 2")
    signal: float | None = Field(description="In the calibration's `signal_unit`")
    temperature_c: float | None
    early: bool = Field(description="Accepted before the signal had settled")
    reason: str
    at: AwareDatetime


class Criterion(Answer):
    """A row of the verdict."""

    key: str
    criterion: str
    value: float | None
    unit: str
    limit: str
    outcome: str
    source: str
    note: str


class CalibrationSummary(Answer):
    id: uuid.UUID
    number: int
    probe_id: uuid.UUID
    at: AwareDatetime
    valid_until: AwareDatetime
    method: str
    method_version: int
    outcome: str
    usable: bool
    decision: str
    by: str
    withdrawn_at: AwareDatetime | None
    withdrawn_because: str


class Calibrations(Answer):
    items: list[CalibrationSummary]
    after: str | None = Field(description="Send it as `after` for the next page; none on the last")


class Calibration(CalibrationSummary):
    """A whole calibration record."""

    probe: str
    probe_serial: str
    meter: str
    meter_serial: str
    meter_firmware: str
    quantity: QuantityKey
    signal_unit: str
    method_title: str
    points: list[Point]
    fit: dict[str, Any] = Field(description="Parameters of the fit, by the quantity's own names")
    verdict: list[Criterion]
    pressure_hpa: float | None


# -- visits and readings


class Reading(Answer):
    """A reading as it stands; a correction is a new version under the same id."""

    id: uuid.UUID = Field(description="The same for all its versions")
    version: int
    visit_id: uuid.UUID
    site_id: uuid.UUID
    probe_id: uuid.UUID | None
    calibration_id: uuid.UUID | None
    quantity: QuantityKey
    value: float
    unit: str
    expanded_uncertainty: float | None = Field(description="k = 2, in `unit`")
    at: AwareDatetime
    depth_m: float | None
    temperature_c: float | None = Field(description="None where a reading that was brought in has none on record")
    role: str
    raw: float
    raw_unit: str
    entered_as: str
    flag: int = Field(description=FLAGS)
    backing: str
    limit_outcome: str = Field(description="met, cannot tell, exceeded; empty where the site has no limit")
    signed: bool = Field(description="What was brought in from a table is not signed, and waits for nobody")
    written_at: AwareDatetime
    reason: str


class Readings(Answer):
    items: list[Reading]
    after: str | None = Field(description="Send it as `after` for the next page; none on the last")


class VisitSummary(Answer):
    id: uuid.UUID
    site_id: uuid.UUID
    outing_id: uuid.UUID | None
    at: AwareDatetime
    by: str
    source: str


class Visits(Answer):
    items: list[VisitSummary]
    after: str | None = Field(description="Send it as `after` for the next page; none on the last")


class Visit(VisitSummary):
    """A visit with everything that stands of it."""

    note: str
    readings: list[Reading]


class Series(Answer):
    """What a logger recorded."""

    id: uuid.UUID
    site_id: uuid.UUID
    probe_id: uuid.UUID | None
    calibration_id: uuid.UUID | None
    name: str
    quantity: QuantityKey
    unit: str
    depth_m: float | None
    starts: AwareDatetime
    ends: AwareDatetime
    interval_s: float
    count: int
    gaps: int
    flagged: int


class SeriesList(Answer):
    items: list[Series]
    after: str | None = Field(description="Send it as `after` for the next page; none on the last")


class SeriesValue(Answer):
    at: AwareDatetime
    value: float = Field(description="As it was recorded")
    flag: int = Field(description=FLAGS)


class SeriesValues(Answer):
    items: list[SeriesValue]


# -- what is asked for


class OfList(Asked):
    """A page of a list."""

    after: str = Field(default="", max_length=200, description="The mark that the page before gave")
    size: int = Field(default=100, ge=1, le=MOST)
    since: AwareDatetime | None = Field(default=None, description="From this moment on")
    until: AwareDatetime | None = Field(default=None, description="Before this moment")


class OfReadings(OfList):
    site_id: uuid.UUID | None = None
    visit_id: uuid.UUID | None = None
    probe_id: uuid.UUID | None = None
    quantity: Literal[tuple(sorted(ON_SHEET))] | None = None  # type: ignore[valid-type]
    written_since: AwareDatetime | None = Field(default=None, description="New or corrected since this moment")


class OfVisits(OfList):
    site_id: uuid.UUID | None = None


class OfCalibrations(OfList):
    probe_id: uuid.UUID | None = None


class OfSeries(OfList):
    site_id: uuid.UUID | None = None


class OfValues(Asked):
    size: int = Field(default=500, ge=1, le=10_000)
    since: AwareDatetime | None = Field(default=None, description="From this moment on")
    until: AwareDatetime | None = Field(default=None, description="Before this moment")


class Nothing(Asked):
    """No parameters."""


# -- what is written


class NewReading(Asked):
    probe_id: uuid.UUID
    value: float = Field(description="As the display showed it")
    entered_as: str = Field(
        max_length=20, description="The way of entering it, as the probe's quantity names it: ph, us_cm_ref …"
    )
    beside: float | None = Field(default=None, description="A second display of the same probe, as mg/L beside %")


class NewSet(Asked):
    """What the displays showed at one time and depth."""

    at: AwareDatetime
    temperature_c: float
    depth_m: float | None = None
    readings: list[NewReading] = Field(min_length=1, max_length=24)
    answers: dict[Annotated[str, Field(max_length=80)], Annotated[str, Field(max_length=600)]] = Field(
        default_factory=dict, description="Why what is odd may be so, by the code of the question that was asked"
    )


class NewVisit(Asked):
    """A visit with its readings, taken in whole or not at all."""

    site_id: uuid.UUID
    outing_id: uuid.UUID | None = None
    note: str = Field(default="", max_length=2000)
    sets: list[NewSet] = Field(min_length=1, max_length=MOST_SETS)
    both: bool = Field(default=False, description="Keep it beside what another read there in the same outing")


class KeptVisit(Answer):
    id: uuid.UUID
    readings: int
    decisions_opened: list[int] = Field(description="Numbers of decisions that these readings opened again")


# -- what other programs are told by themselves


class ExceededData(Answer):
    reading_id: uuid.UUID
    version: int
    visit_id: uuid.UUID
    site_id: uuid.UUID
    site: str
    quantity: QuantityKey
    value: float
    unit: str
    expanded_uncertainty: float | None
    depth_m: float | None
    at: AwareDatetime
    flag: int = Field(description=FLAGS)
    backing: str
    limit: str = Field(description="The limit and what the value does to it, in a sentence")


class Exceeded(Answer):
    """A reading beyond its site's limit."""

    id: uuid.UUID = Field(description="Of the delivery; the same each time it is tried")
    event: Literal["exceeded"]
    data: ExceededData


class FallenDueData(Answer):
    words: str
    at: AwareDatetime
    what: Literal["probe", "lot", "round", "outing", "deployment"]
    id: uuid.UUID | None


class FallenDue(Answer):
    """Something that has fallen due."""

    id: uuid.UUID = Field(description="Of the delivery; the same each time it is tried")
    event: Literal["due"]
    data: FallenDueData


class LoggerData(Answer):
    deployment_id: uuid.UUID
    deployment: str
    site_id: uuid.UUID
    site: str
    kind: Literal["silent", "flat", "drift", "limit"]
    words: str
    at: AwareDatetime


class LoggerNoticed(Answer):
    """What the watch over a live logger has noticed."""

    id: uuid.UUID = Field(description="Of the delivery; the same each time it is tried")
    event: Literal["logger"]
    data: LoggerData


#: What is posted to an address that is told, by the word of its event.
WEBHOOKS: dict[str, type[Answer]] = {"exceeded": Exceeded, "due": FallenDue, "logger": LoggerNoticed}


# -- what went wrong


class Fault(Answer):
    field: str
    detail: str


class Question(Answer):
    code: str = Field(description="Send the answer under this code in the set's `answers`")
    set: int
    detail: str


class Problem(Answer):
    """What was refused, and why [RFC 9457]."""

    type: str
    title: str
    status: int
    detail: str
    faults: list[Fault] = Field(default_factory=list)
    questions: list[Question] = Field(default_factory=list)
