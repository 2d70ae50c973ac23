"""A probe's whole life on one line: calibrations, maintenance, control charts and a forecast of its end."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from functools import cache
from typing import Any

from sqlalchemy import ARRAY, BindParameter, Select, String, any_, bindparam, func, select
from sqlalchemy.orm import Session, lazyload

from brumel.core import ageing
from brumel.core.sentence import say
from brumel.core.verdict import Band, Tolerance
from brumel.methods import Method
from brumel.store.tables import Calibration, Maintenance, Probe, ProbeInstallation
from brumel.work.kit import calibrations, maintenance, methods
from brumel.work.quantities.base import StrandSpec
from brumel.work.quantities.book import quantity_of

LONGEST_LIFE = 120


@dataclass(frozen=True)
class Strand:
    """One quantity over the life: values with their times and outcomes, limits, chart and forecast."""

    key: str
    name: str
    unit: str
    digits: int
    times: tuple[datetime, ...]
    values: tuple[float, ...]
    outcomes: tuple[str, ...]
    band: Band | None
    chart: ageing.ControlChart | None
    forecast: ageing.Forecast | None


@dataclass(frozen=True)
class Life:
    """Everything the probe's page draws, and what it was drawn from: calibrations and maintenance newest first.

    method : the one offered first, with the probe's own limits, whose bands are drawn
    """

    strands: tuple[Strand, ...]
    maintenance: tuple[tuple[datetime, str], ...]
    calibrations: tuple[Calibration, ...] = ()
    done: tuple[Maintenance, ...] = ()
    installations: tuple[ProbeInstallation, ...] = ()
    method: Method | None = None

    @property
    def sentences(self) -> tuple[str, ...]:
        """What the charts and forecasts have to say, the forecasts first."""
        ahead = [s.forecast.sentence for s in self.strands if s.forecast]
        seen = [
            say("{name}: {signal}", name=s.name.capitalize(), signal=signal.sentence)
            for s in self.strands
            if s.chart
            for signal in s.chart.signals[-2:]
        ]
        return (*ahead, *seen)


def life_of_probe(session: Session, probe: Probe) -> Life:
    """The life of a probe, oldest first. What a run did not measure (a carried slope, a check's cell) is left out."""
    quantity = quantity_of(probe.quantity)
    past = list(reversed(calibrations.recent_calibrations(session, probe.id, LONGEST_LIFE)))
    done = maintenance.maintenance_history(session, probe.id, 200)
    fitted = installations(session, probe)
    method = methods.method_for_probe(methods.default_method(session, probe), probe)
    renewed = _renewed(probe, done)
    strands = [_followed(strand, past, method, renewed) for strand in quantity.strands]
    settle = calibrations.settle_times(session, [c.run_id for c in past])
    timed = [c for c in past if c.run_id in settle]
    strands.append(
        _strand(StrandSpec("settling", "slowest cup", "s", 0, 3.0), timed, [settle[c.run_id] for c in timed], None)
    )
    if errors := [(c, _as_found(c)) for c in past if _as_found(c) is not None]:
        strands.append(
            _strand(
                StrandSpec("as_found", "error as found", quantity.unit, quantity.digits, 0.0),
                [c for c, _ in errors],
                [e for _, e in errors if e is not None],
                None,
            )
        )
    marks = [
        *((u.at, _words(probe, u)) for u in reversed(done)),
        *((f.at, f"fitted to {f.meter.name}") for f in fitted),
    ]
    drawn = tuple(s for s in strands if len(s.values) > 1)
    return Life(drawn, tuple(sorted(marks)), tuple(reversed(past)), tuple(done), tuple(fitted), method)


def _renewed(probe: Probe, done: Sequence[Maintenance]) -> datetime | None:
    """When the probe last got a new part (membrane, cap, tip): charts and forecasts begin there anew."""
    fresh = [what for what, spec in maintenance.maintenance_kinds(probe).items() if spec.fresh]
    at = [u.at for u in done if u.what in fresh]
    return max(at, default=None)


def calibrations_before(session: Session, probe: Probe, before: datetime, count: int = 20) -> list[Calibration]:
    """The usable calibrations before a moment since the last new membrane, cap or tip, oldest first."""
    fresh = [what for what, spec in maintenance.maintenance_kinds(probe).items() if spec.fresh]
    asked = {"probe": probe.id, "fresh": fresh, "before": before, "most": count}
    return list(reversed(session.scalars(_since_renewed(), asked).all()))


@cache
def _since_renewed() -> Select[Calibration]:
    probe: BindParameter[Any] = bindparam("probe")
    before: BindParameter[Any] = bindparam("before")
    renewed = select(func.max(Maintenance.at)).where(
        Maintenance.probe_id == probe,
        Maintenance.what == any_(bindparam("fresh", type_=ARRAY(String))),
        Maintenance.at <= before,
    )
    return (
        select(Calibration)
        .options(lazyload("*"))
        .where(Calibration.probe_id == probe, Calibration.usable, Calibration.at < before, calibrations.stands())
        .where(Calibration.at >= func.coalesce(renewed.scalar_subquery(), Calibration.at))
        .order_by(Calibration.at.desc())
        .limit(bindparam("most"))
    )


def measured(key: str, calibration: Calibration) -> bool:
    """Whether a calibration found this figure itself, and did not carry it over."""
    carried = "offset" if key == "slope_percent" else "check" if key in ("cell_constant", "gain_percent") else ""
    return key in calibration.figures and calibration.fit["kind"] != carried


def installations(session: Session, probe: Probe) -> list[ProbeInstallation]:
    """Which meters the probe was on, oldest first."""
    return list(
        session.scalars(
            select(ProbeInstallation).where(ProbeInstallation.probe_id == probe.id).order_by(ProbeInstallation.at)
        )
    )


def _as_found(calibration: Calibration) -> float | None:
    """The largest error in the run's cups before adjusting, signed."""
    return max((float(a["error"]) for a in calibration.as_found), key=abs, default=None)


def _followed(spec: StrandSpec, past: Sequence[Calibration], method: Method, renewed: datetime | None) -> Strand:
    key = spec.key
    found = [c for c in past if measured(key, c)]
    values = [float(c.figures[key]) for c in found]
    since = [c for c in found if renewed is None or c.at >= renewed]
    band = method.band(spec.limit).band() if spec.limit else _around(key, method, since or found)
    return _strand(spec, found, values, band, len(since))


def _around(key: str, method: Method, past: Sequence[Calibration]) -> Band | None:
    """Limits of what is judged against a nominal value or a tolerance, put on the drawing's own scale."""
    limits = method.judged_by()
    if key == "cell_constant" and past:
        nominal, nominal_and_band = float(past[-1].fit["nominal_per_cm"]), method.band("cell_constant")
        at = [float(f"{nominal * (1 + v / 100):.4g}") for v in (*nominal_and_band.fit, *nominal_and_band.care)]
        return Band(at[0], at[1], at[2], at[3], source=nominal_and_band.source)
    if key == "gain_percent" and past and "gain_percent" in past[0].figures:
        first, nominal_and_band = float(past[0].figures["gain_percent"]), method.band("gain")
        at = [float(f"{first * v / 100:.3g}") for v in (*nominal_and_band.fit, *nominal_and_band.care)]
        return Band(at[0], at[1], at[2], at[3], source=nominal_and_band.source)
    name = {"zero_mg_l": "zero", "error_mv": "tolerance", "error_c": "tolerance", "error_mg_l": "tolerance"}.get(
        key, ""
    )
    limit = limits.get(name)
    if isinstance(limit, Tolerance):
        return Band(-limit.value, limit.value, -2 * limit.value, 2 * limit.value, source=limit.source)
    return None


def _words(probe: Probe, done: Maintenance) -> str:
    return maintenance.maintenance_words(probe, done)[0]


def _strand(
    spec: StrandSpec, past: Sequence[Calibration], values: list[float], band: Band | None, since: int | None = None
) -> Strand:
    """One figure over the probe's life; `since` counts the newest values, those of the present membrane or tip."""
    count = len(values) if since is None else since
    mine = values[len(values) - count :]
    chart = (
        ageing.control_chart(mine, smallest_sigma=spec.smallest_sigma)
        if len(mine) >= 5 and spec.smallest_sigma
        else None
    )
    if chart and count < len(values):
        shift = len(values) - count
        chart = replace(chart, signals=tuple(replace(g, index=g.index + shift) for g in chart.signals))
    ahead = _ahead(spec, past[-min(12, count) :], values, band) if band is not None and len(mine) >= 5 else None
    return Strand(
        spec.key,
        spec.name,
        spec.unit,
        spec.digits,
        tuple(c.at for c in past),
        tuple(values),
        tuple(c.outcome for c in past),
        band,
        chart,
        ahead,
    )


def _ahead(
    spec: StrandSpec, recent: Sequence[Calibration], values: Sequence[float], band: Band
) -> ageing.Forecast | None:
    """When the trend will cross the care limit it is heading for: beyond it the verdict is "do not use"."""
    days = [(c.at - recent[0].at).total_seconds() / 86400 for c in recent]
    if days[-1] <= 0:
        return None
    falling = values[-1] < values[-len(recent)]
    limit = band.care_low if falling else band.care_high
    return ageing.forecast(days, values[-len(recent) :], limit, what=spec.name[:1].upper() + spec.name[1:])
