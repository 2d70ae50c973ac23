"""The demo's meters, probes and solutions, and the hidden truth of its simulated probes. All made up."""

from __future__ import annotations

import io
import uuid
from datetime import datetime, timedelta
from typing import Any

from PIL import Image, ImageDraw

from brumel.store.tables import Lot, Meter, Probe
from brumel.store.typed_json import LotMeasure
from brumel.work.records import letterhead


def meters() -> dict[str, Meter]:
    """Three sets: the everyday one on a link, a bench set that is typed, and one for pools."""
    return {
        "A": Meter(
            id=uuid.uuid4(),
            name="Field set A",
            serial="TWS-A-014",
            link="simulated",
            firmware="2.4",
            battery="4 cells",
            description="Eight sockets, 10 m cable drum, in the green box.",
        ),
        "B": Meter(
            id=uuid.uuid4(),
            name="Bench set B",
            serial="TWS-B-003",
            link="typed",
            firmware="1.1",
            battery="mains",
            description="Two sockets, on the bench by the window; no link.",
        ),
        "C": Meter(
            id=uuid.uuid4(),
            name="Pool set C",
            serial="TWS-C-021",
            link="simulated",
            firmware="0.9",
            battery="2 cells",
            description="Handheld for pools, in the yellow pouch.",
        ),
    }


_PROBES: dict[str, tuple[str, str, str, str, dict[str, Any], str]] = {
    "A": (
        "A",
        "pH probe A1",
        "PA1-2231",
        "ph",
        {"kind": "refillable", "cable_m": 3.0, "address": "1"},
        "Refillable, 3 m cable; the everyday probe.",
    ),
    "spare": (
        "A",
        "pH probe A2",
        "PA2-1984",
        "ph",
        {"kind": "refillable", "cable_m": 3.0, "address": "2"},
        "Refillable, 3 m cable; getting old.",
    ),
    "A3": (
        "A",
        "Conductivity cell A3",
        "CA3-0442",
        "conductivity",
        {"kind": "two-electrode", "nominal": 1.0, "cable_m": 10.0, "address": "3"},
        "Two plates, cell constant 1.",
    ),
    "A4": (
        "A",
        "ORP probe A4",
        "RA4-1107",
        "redox",
        {"kind": "refillable", "reference_electrode": "agcl-3m", "cable_m": 3.0, "address": "4"},
        "Platinum band.",
    ),
    "A5": (
        "A",
        "Oxygen probe A5",
        "OA5-0870",
        "oxygen",
        {"kind": "polarographic", "cable_m": 10.0, "address": "5"},
        "Polarises 90 min after a new membrane.",
    ),
    "A6": ("A", "Nitrate tip A6", "NA6-0031", "nitrate", {"kind": "membrane tip", "cable_m": 3.0, "address": "6"}, ""),
    "A7": (
        "A",
        "Ammonium tip A7",
        "MA7-0029",
        "ammonium",
        {"kind": "membrane tip", "cable_m": 3.0, "address": "7"},
        "",
    ),
    "A8": (
        "A",
        "Thermometer A8",
        "TA8-0014",
        "temperature",
        {"kind": "thermistor", "cable_m": 10.0, "address": "8"},
        "In the cable head, beside the cell.",
    ),
    "B": ("B", "pH probe B1", "PB1-0717", "ph", {"kind": "refillable"}, "Refillable, for the bench; no link, typed."),
    "B2": ("B", "Oxygen probe B2", "OB2-0212", "oxygen", {"kind": "optical"}, "Optical; no polarising, no stirring."),
    "B3": (
        "B",
        "Conductivity cell B3",
        "CB3-0105",
        "conductivity",
        {"kind": "four-electrode", "nominal": 10.0},
        "For brackish water and brine.",
    ),
    "C1": (
        "C",
        "Chlorine tip C1",
        "LC1-0008",
        "chlorine",
        {"kind": "membrane tip", "measures": "free"},
        "Free chlorine.",
    ),
    "C2": (
        "C",
        "ORP probe C2",
        "RC2-0190",
        "redox",
        {"kind": "gel", "reference_electrode": "agcl-saturated"},
        "Gel-filled, for pools.",
    ),
}


TRUTHS: dict[str, dict[str, Any]] = {
    "A": {"slope": 0.981, "offset_mv": 4.2, "seed": 11, "cups_c": 18.4},
    "spare": {"slope": 0.93, "offset_mv": -18.0, "tau_s": 9.0, "noise_mv": 0.09, "seed": 23, "cups_c": 17.9},
    "A3": {"cell_constant": 1.031, "seed": 31, "cups_c": 18.6},
    "A4": {"offset_mv": 5.5, "seed": 41, "cups_c": 20.5},
    "A5": {"gain": 0.965, "zero_percent": 0.6, "seed": 51, "cups_c": 14.2},
    "A6": {"sign": -1.0, "slope": 0.968, "e0_mv": 212.0, "seed": 61, "cups_c": 20.8},
    "A7": {"sign": 1.0, "slope": 0.955, "e0_mv": -58.0, "seed": 71, "cups_c": 20.8},
    "A8": {"error_c": 0.06, "seed": 81, "cups_c": 19.7},
    "C1": {"gain": 0.97, "seed": 91, "cups_c": 28.6, "second_mg_l": 1.62},
    "C2": {"offset_mv": -3.0, "seed": 95, "cups_c": 21.5},
}


def probes(meters: dict[str, Meter], start: datetime) -> dict[str, Probe]:
    """Every probe by its short name."""
    return {
        key: Probe(
            id=uuid.uuid4(),
            meter_id=meters[meter].id,
            name=name,
            serial=serial,
            quantity=quantity,
            in_service=start,
            note=note,
            waits={},
            intervals={},
            limits={},
            **more,
        )
        for key, (meter, name, serial, quantity, more, note) in _PROBES.items()
    }


def _ph(family: str, label: dict[str, float] | None = None, u: float = 0.02) -> dict[str, Any]:
    return {"ph": {"family": family, "label": label, "u": u}}


def _ec(family: str, u: float = 1.0) -> dict[str, Any]:
    return {"conductivity": {"family": family, "label": None, "u": u}}


def _ion(quantity: str, value: float, basis: str = "activity") -> dict[str, Any]:
    return {quantity: {"family": "label", "label": {"25": value}, "u": 1.0, "basis": basis}}


def lots(now: datetime) -> dict[str, Lot]:
    """Every solution by its short name: measures, expiry and opening in days from now, open life, container."""
    label_table = {"10": 6.93, "15": 6.90, "20": 6.88, "25": 6.86, "30": 6.85}
    both = {
        "ph": {"family": "label", "label": {"15": 4.00, "20": 4.00, "25": 4.01, "30": 4.02}, "u": 0.03},
        "conductivity": {"family": "label", "label": {"15": 3580, "20": 4010, "25": 4450, "30": 4900}, "u": 1.5},
    }
    shelf: dict[str, tuple[str, str, dict[str, Any], int, int | None, int, str]] = {
        "4": ("N4-118", "Buffer 4.01", _ph("4.01"), 300, 20, 90, "bottle"),
        "7": ("N7-121", "Buffer 7.01", _ph("7.01"), 280, 20, 90, "bottle"),
        "10": ("N10-090", "Buffer 10.01", _ph("10.01"), 200, 9, 30, "bottle"),
        "10old": ("N10-071", "Buffer 10.01", _ph("10.01"), -12, 70, 30, "bottle"),
        "10bad": ("N10-083", "Buffer 10.01", _ph("10.01"), 150, 60, 90, "bottle"),
        "7label": ("K7-009", "Own buffer 6.86", _ph("phosphate", label_table), 120, 5, 60, "made"),
        "7sachet": ("S7-440", "Buffer 7.01 sachet", _ph("7.01"), 330, None, 1, "sachet"),
        "7tablet": ("T7-012", "Tablet buffer 7", _ph("tablet-7", u=0.05), 400, None, 1, "tablet"),
        "74": ("K74-002", "Own buffer 7.41", _ph("phosphate-1:3.5", u=0.01), 120, 5, 60, "made"),
        "9": ("K9-004", "Own buffer 9.18", _ph("borax", u=0.01), 120, 5, 30, "made"),
        "both": ("C1-206", "Combined pH and EC", both, 210, 4, 60, "bottle"),
        "1413": ("E14-055", "KCl 1413", _ec("1413"), 260, 12, 90, "bottle"),
        "84": ("E84-019", "KCl 84", _ec("84", 3.0), 180, 6, 30, "bottle"),
        "12880": ("E12-031", "KCl 12.88 mS", _ec("12880"), 260, 14, 90, "bottle"),
        "zero": (
            "Z0-077",
            "Sulfite zero",
            {"oxygen": {"family": "sulfite", "label": None, "u": 0.05}},
            60,
            3,
            14,
            "made",
        ),
        "zobell": (
            "R43-012",
            "Ferro/ferricyanide",
            {"redox": {"family": "zobell", "label": None, "u": 5.0}},
            150,
            15,
            90,
            "bottle",
        ),
        "240": (
            "R24-030",
            "ORP standard 240",
            {"redox": {"family": "label", "label": {"20": 242, "25": 240, "30": 238}, "u": 5.0, "against": "agcl-3m"}},
            170,
            15,
            90,
            "bottle",
        ),
        "quin7": (
            "Q7-001",
            "Quinhydrone in 7.01",
            {"redox": {"family": "quinhydrone-7", "label": None, "u": 8.0}},
            1,
            0,
            1,
            "made",
        ),
        "n10": ("NO1-014", "Nitrate 10 as N", _ion("nitrate", 10.0), 200, 20, 90, "bottle"),
        "n100": ("NO2-014", "Nitrate 100 as N", _ion("nitrate", 100.0), 200, 20, 90, "bottle"),
        "m1": ("NH1-009", "Ammonium 1 as N", _ion("ammonium", 1.0, "concentration"), 200, 20, 90, "bottle"),
        "m10": ("NH2-008", "Ammonium 10 as N", _ion("ammonium", 10.0, "concentration"), 200, 20, 90, "bottle"),
        "m100": ("NH3-009", "Ammonium 100 as N", _ion("ammonium", 100.0, "concentration"), 200, 20, 90, "bottle"),
    }
    return {
        key: Lot(
            id=uuid.uuid4(),
            code=code,
            name=name,
            measures={q: LotMeasure(**body) for q, body in measures.items()},
            container=container,
            expires_on=now + timedelta(days=expires),
            opened_at=None if opened is None else now - timedelta(days=opened),
            open_days=keeps,
            single_use=container in ("sachet", "tablet"),
            traceable_to=f"Veldmere Reference Laboratory, certificate VR-{code}" if container == "bottle" else "",
        )
        for key, (code, name, measures, expires, opened, keeps, container) in shelf.items()
    }


def _picture() -> bytes:
    """The practice's mark: a gauge in water, drawn here so that nothing has to be shipped."""
    drawn = Image.new("RGBA", (240, 240), (255, 255, 255, 0))
    pen = ImageDraw.Draw(drawn)
    pen.polygon([(60, 120), (100, 104), (140, 120), (180, 112), (180, 204), (60, 204)], fill="#0b5f66")
    pen.line([(60, 24), (60, 208), (180, 208), (180, 24)], fill="#16262e", width=14)
    for y in (56, 88, 160):
        pen.line([(60, y), (96, y)], fill="#16262e", width=9)
    out = io.BytesIO()
    drawn.save(out, "PNG")
    return out.getvalue()


#: The made-up practice, as its documents are headed.
PRACTICE = letterhead.Practice(
    name="Tarnholt Water Survey",
    address="Gauge House, 4 Weir Lane\nTarnholt\nwater@tarnholt.example",
    prefix="TWS-",
    paper="A4",
    dates="en_GB",
    picture=_picture(),
)
