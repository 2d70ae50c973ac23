"""The bench table of a practice world: drawn on every page, acted on by hand, with the display of its meter."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from typing import Any

from flask import Blueprint, flash, g, redirect, render_template, request, url_for

from brumel.core.errors import BrumelError
from brumel.web.access import actor, desk
from brumel.web.answer import answer
from brumel.web.forms import WriteForm, optional_number
from brumel.web.reader import in_words
from brumel.work import practice
from brumel.work.practice import WorldView
from brumel.work.practice.table import CARE, PLACES

blueprint = Blueprint("table", __name__, template_folder="templates", url_prefix="/table")

#: The words on the buttons; `{}` is the probe's name.
HANDS = {
    "rinse": "Rinse with pure water",
    "blot": "Blot",
    "wipe": "Wipe dry",
    "stir": "Stir gently",
    "lift": "Dip and lift 5 times",
    "shake": "Shake down",
}
LOOKS = {"inspect": "Inspect the probe", "thermometer": "Read the reference thermometer"}
CARES = {
    "clean": "Clean (15 min)",
    "electrolyte": "Change the electrolyte (10 min)",
    "membrane": "New membrane and electrolyte (15 min)",
    "dry_plug": "Dry plug and socket (10 min)",
    "soak": "Soak overnight (12 h)",
    "hydrate": "Leave in its standard (24 h)",
}
WAITS = ((10, "10 s"), (30, "30 s"), (60, "1 min"), (300, "5 min"), (1800, "30 min"), (5400, "90 min"))
#: Of care and places, what a quantity has; the others are left off its table.
OF = {
    "membrane": ("oxygen",),
    "hydrate": ("nitrate", "ammonium"),
    "soak": ("ph",),
    "electrolyte": ("ph", "redox"),
    "dry_plug": ("conductivity",),
    "lift": ("conductivity",),
    "shake": ("ph",),
    "moist_air": ("oxygen",),
    "aired_water": ("oxygen",),
    "ice": ("temperature",),
    "bath": ("temperature",),
}
_WIDE, _CUP = 350, 78


@dataclass(frozen=True)
class Thing:
    """Something drawn on the table: where it stands from the left, its words, and which probes stand in it."""

    key: str
    x: float
    words: tuple[str, ...]
    probes: tuple[str, ...] = ()


@dataclass(frozen=True)
class Drawn:
    """The table as it is drawn, and what can be done at it."""

    bottles: tuple[Thing, ...]
    cups: tuple[Thing, ...]
    places: tuple[Thing, ...]
    width: float
    probe: str
    probes: dict[str, str]
    hands: dict[str, str]
    looks: dict[str, str]
    cares: dict[str, str]
    waits: tuple[tuple[int, str], ...]
    displays: tuple[practice.Display, ...]
    stands: str
    has_kit: bool
    has_water: bool
    depths: tuple[float, ...]
    last: str
    acts: int


def drawn(view: WorldView) -> Drawn:
    """A world's table as its pages draw it."""
    table = view.table
    measured = {p.quantity for p in table.probes.values()}
    chosen = _chosen(view)
    quantity = table.named(chosen).quantity
    standing: dict[str, list[str]] = {}
    for probe in table.probes.values():
        standing.setdefault(probe.stand.place, []).append(probe.name)
    bottles = [Thing(b.key, 12 + i * 92, (b.name, b.code)) for i, b in enumerate(table.bottles.values())]
    left = 24 + len(bottles) * 92
    cups = [
        Thing(c.letter, left + i * _CUP, (c.letter, table.bottles[c.bottle].name), tuple(standing.get(c.letter, ())))
        for i, c in enumerate(table.cups)
    ]
    left += len(cups) * _CUP + 10
    names = [k for k in PLACES if _has(k, measured) and (k != "water" or table.water)]
    short = {
        "holder": "holder",
        "moist_air": "moist air",
        "aired_water": "aired water",
        "ice": "ice",
        "bath": "bath",
        "water": "site",
    }
    places = [Thing(k, left + i * 86, (short[k],), tuple(standing.get(k, ()))) for i, k in enumerate(names)]
    return Drawn(
        bottles=tuple(bottles),
        cups=tuple(cups),
        places=tuple(places),
        width=max(_WIDE, left + len(places) * 86 + 10),
        probe=chosen,
        probes={str(k): p.name for k, p in table.probes.items()},
        hands={k: w for k, w in HANDS.items() if quantity in OF.get(k, (quantity,))},
        looks=LOOKS,
        cares={k: w for k, w in CARES.items() if k in CARE and quantity in OF.get(k, (quantity,))},
        waits=WAITS,
        displays=tuple(practice.displays(desk(), view)),
        stands=_stands(view, chosen),
        has_kit="chlorine_mg_l" in table.water and bool(measured & {"chlorine"}),
        has_water=bool(table.water),
        depths=tuple(view.scenario.site.depths) if view.scenario.site else (),
        last=table.acts[-1].words if table.acts else "",
        acts=len(table.acts),
    )


def _chosen(view: WorldView) -> str:
    """The probe in hand: the one that was asked for, else the first."""
    known = [str(k) for k in view.table.probes]
    asked = request.args.get("probe") or g.get("table_probe") or known[0]
    return asked if asked in known else known[0]


def _stands(view: WorldView, probe: str) -> str:
    """Where a probe stands, and for how long it has."""
    stand = view.table.named(probe).stand
    since = _same_place(view.table.named(probe).stands)[-1].at
    seconds = max(0, int((view.now - since).total_seconds()))
    where = PLACES.get(stand.place, f"in cup {stand.place}")
    return f"{where}, {seconds // 60}:{seconds % 60:02d}" if stand.place != "holder" else where


def _same_place(stands: list[Any]) -> list[Any]:
    """The stands since the probe was put where it is, the newest first: stirring there does not begin it anew."""
    return list(itertools.takewhile(lambda s: s.place == stands[-1].place, reversed(stands)))


def _has(key: str, measured: set[str]) -> bool:
    return key not in OF or bool(measured & set(OF[key]))


@blueprint.get("")
def show(faults: Any = ()) -> Any:
    """The table alone, with the task and what happened on the way."""
    page = render_template("practice/table_page.html", faults=faults)
    return page, 422 if faults else 200


@blueprint.get("/now")
def now() -> Any:
    """The display as it stands, and whether the table must be drawn anew."""
    view: WorldView | None = g.get("world")
    if view is None:
        return {"displays": [], "acts": 0, "news": 0, "minutes": 0}
    return {
        "displays": [{"probe": d.probe, "lines": list(d.lines)} for d in practice.displays(desk(), view)],
        "acts": len(view.table.acts),
        "news": len(view.news),
        "minutes": f"{view.minutes:.0f}",
        "stands": _stands(view, _chosen(view)),
    }


@blueprint.post("/act")
def act() -> Any:
    """Do one thing at the table: with a script the table is answered as it then stands, else the page it was done on."""
    form = WriteForm()
    scripted = request.accept_mimetypes.best == "application/json"
    fault, words = "", ""
    try:
        form.check()
        done = practice.act(
            desk(),
            actor(),
            form.write_key,
            what=request.form.get("what", ""),
            probe=request.form.get("probe", ""),
            on=request.form.get("on", ""),
            amount=optional_number("amount", "amount"),
        )
        words = done.words
    except BrumelError as error:
        fault = in_words(error)
    if not scripted:
        flash(fault or words, "care" if fault else "note")
        return redirect(_back(), code=303)
    g.pop("desk_of_world", None)
    g.world = practice.look(desk())
    g.table_probe = request.form.get("probe", "")
    drawing = render_template("practice/table.html", act_fault=fault, act_words=words)
    return {
        "html": drawing,
        "fault": fault,
        "jumped": not fault and request.form.get("what") in ("wait", "walk", *CARE),
    }, 422 if fault else 200


@blueprint.post("/pace")
def set_pace() -> Any:
    """How fast the world's clock runs."""
    form = WriteForm()

    def do() -> str:
        form.check()
        practice.set_pace(desk(), actor(), form.write_key, pace=request.form.get("pace", ""))
        return _back()

    return answer(do, show)


def _back() -> str:
    """The page of this world it was done on."""
    to = request.form.get("back", "")
    here = request.script_root
    return to if to.startswith(f"{here}/") and "//" not in to and "\\" not in to else url_for("table.show")
