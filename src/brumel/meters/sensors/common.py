"""What all simulated sensors share.

Every sample is a pure function of the truth, the dip and its time, so a restarted meter goes on with the very same trace,
and two senders cannot disagree.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Self

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
SAMPLES_PER_S = 2.0


@dataclass(frozen=True)
class Liquid:
    """What the probe stands in; `oxygen_percent` of saturated air at 1013.25 hPa, `vessel` as in methods."""

    temperature_c: float = 20.0
    ph: float = 7.0
    conductivity_us_cm: float = 0.0
    oxygen_percent: float = 100.0
    redox_mv: float = 200.0
    ion_mg_l: float = 1.0
    chlorine_mg_l: float = 0.0
    vessel: str = "solution"
    stirred: bool = True


@dataclass(frozen=True)
class Start:
    """Where signal and thermistor were when the probe went in [signal's unit, °C]."""

    signal: float = 0.0
    temperature_c: float = 20.0


@dataclass(frozen=True)
class Sensor:
    """The hidden truth every sensor has.

    severity : how grave its faults are; 1 as Practice ships them
    """

    seed: int = 1
    faults: tuple[str, ...] = ()
    severity: float = 1.0

    def graver(self, factor: float) -> float:
        """A factor that a fault multiplies by, as grave as its severity: 1 without any."""
        return float(factor**self.severity)

    @classmethod
    def from_body(cls, body: dict[str, Any]) -> Self:
        """From stored truth; what belongs to other parts of the simulator is left out."""
        known = {k: v for k, v in body.items() if k in cls.__dataclass_fields__}
        return cls(**{**known, "faults": tuple(known.get("faults", ()))})

    def sense(self, liquid: Liquid, t_s: Array, start: Start, dip_number: int) -> tuple[Array, Array]:
        """Signal and temperature at times `t_s` after the dip, 1-d."""
        raise NotImplementedError


def approach(t: Array, start: Array | float, final: Array | float, tau_s: float) -> Array:
    """First-order approach from start to final."""
    return np.asarray(final + (start - final) * np.exp(-t / tau_s))


def noise(seed: int, dip_number: int, t: Array) -> Array:
    """Three rows of standard normal noise, one column a sample, drawn from (seed, dip, index): any part can be made alone.

    A sample takes three draws of the dip's own stream, so a later one is reached by going on in it.
    """
    from scipy.special import ndtri  # loaded with the first sample: it takes an eighth of every start

    index = np.rint(t * SAMPLES_PER_S).astype(int)
    if not index.size:
        return np.empty((3, 0))
    first, last = int(index.min()), int(index.max())
    stream = np.random.PCG64([seed, dip_number]).advance(3 * first)
    draws = stream.random_raw(3 * (last - first + 1)).reshape(-1, 3)[index - first]
    # From 53 bits to the open interval (0, 1), and through the normal distribution's inverse.
    return np.asarray(ndtri(((draws >> np.uint64(11)) + 0.5) / 2.0**53)).T
