"""Setting the simulated meter: faults per probe, and the pace of its clock."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.orm import Session

from brumel.core.errors import InputError
from brumel.meters.sensors import FAULTS
from brumel.methods import ORDER
from brumel.store.tables import Probe
from brumel.work import kit
from brumel.work.desk import Write, Written, writes
from brumel.work.simulator import meters

PACES = (1, 5, 20)


def simulated(session: Session) -> list[tuple[Probe, tuple[str, ...]]]:
    """The probes that stand-ins play, inside Brumel or behind the demo's link, with the faults that are switched on."""
    known = meters.truths(session, "probe:")
    probes = [p for p in kit.probes_in_service(session) if known.get(f"probe:{p.id}")]
    in_order = sorted(probes, key=lambda p: (ORDER.index(p.quantity), p.name))
    return [(p, tuple(known[f"probe:{p.id}"].get("faults", ()))) for p in in_order]


def pace(session: Session) -> int:
    """How many of the meter's seconds pass in one."""
    return int(meters.truth(session, "clock").get("pace", 1))


@writes("practice.meter", Written)
def set_meter(w: Write, *, probe_id: str, faults: Sequence[str], pace: str) -> Written:
    """Set faults and pace. Raises InputError for a fault or pace that does not exist."""
    if pace not in {str(p) for p in PACES}:
        raise InputError("pace", f"Pace “{pace[:10]}” is not one of {', '.join(map(str, PACES))}.", value=pace)
    probe = kit.probe_of(w.session, probe_id)
    unknown = [f for f in faults if f not in FAULTS[probe.quantity]]
    if unknown:
        raise InputError("fault", f"Fault “{unknown[0][:30]}” is not known.", value=unknown[0])
    meters.set_faults(w.session, probe, list(faults))
    meters.set_truth(w.session, "clock", {"pace": int(pace)})
    w.record(f"probe:{probe.id}", {"faults": list(faults), "pace": pace})
    return Written(str(probe.id))
