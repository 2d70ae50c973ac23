"""What a deployment rests on: uncertainties of its checks, settings, the order of a service. `data/deployments.yaml`."""

from __future__ import annotations

import functools

from pydantic import Field

from brumel.core.deployed.correction import CheckUncertainty
from brumel.methods.loader import DATA
from brumel.methods.strict import Strict, load_yaml


class ChannelSpec(Strict):
    """Standard uncertainties of one quantity's checks [unit, % of the value where `percent`]."""

    reading: float = Field(gt=0)
    standard: float = Field(gt=0)
    value: float = Field(gt=0)
    percent: bool = False
    source: str = Field(min_length=3)

    def uncertainty(self) -> CheckUncertainty:
        return CheckUncertainty(self.reading, self.standard, self.value)


class BesideSpec(Strict):
    """A channel without checks of its own: what it is called, its unit, and what its instrument may show."""

    title: str
    unit: str
    low: float
    high: float


class Named(Strict):
    """Something to look at before a logger is started."""

    key: str
    words: str


class ServiceStep(Strict):
    """A step of a service visit, in its order."""

    key: str
    title: str
    words: str


class VisitSpec(Strict):
    """When a logger is visited [d]; share : of the criterion that fouling and drift should have reached by then."""

    first_days: float
    soonest_days: float
    latest_days: float
    share: float
    source: str


class ToPack(Strict):
    """Something to take along, and why."""

    key: str
    what: str
    why: str


class WatchSpec(Strict):
    """When a live logger counts as silent."""

    silent_intervals: float
    silent_minutes: float
    source: str


class DeploymentSpec(Strict):
    """All of it."""

    quantities: dict[str, ChannelSpec]
    beside: dict[str, BesideSpec]
    settings: tuple[Named, ...]
    service: tuple[ServiceStep, ...]
    visits: VisitSpec
    packing: tuple[ToPack, ...]
    watch: WatchSpec
    degree_hours_base_c: float


@functools.cache
def load_deployments() -> DeploymentSpec:
    """The shipped file."""
    return DeploymentSpec.model_validate(load_yaml((DATA / "deployments.yaml").read_text("utf-8")))
