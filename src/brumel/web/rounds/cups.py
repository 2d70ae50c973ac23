"""Bench without a signal: typed calibrations and closing checks on a page the browser keeps, and the queue's runs."""

from __future__ import annotations

from dataclasses import asdict
from datetime import datetime
from typing import Annotated, Any, Literal

from flask import make_response, render_template, request, url_for
from pydantic import BaseModel, ConfigDict, Field

from brumel.core.typed import SLIPS
from brumel.web.access import actor, desk
from brumel.web.reader import all_in_words, in_words
from brumel.web.root import this_path
from brumel.web.rounds.offline import KEPT, answer_queue
from brumel.web.rounds.routes import blueprint
from brumel.work import bench
from brumel.work.bench import without_signal
from brumel.work.bench.conditions import Conditions
from brumel.work.bench.points import TYPED_C
from brumel.work.desk import object_id
from brumel.work.records import late_runs
from brumel.work.rounds import outings


@blueprint.get("/outings/<outing_id>/cups")
def cups(outing_id: str) -> Any:
    """The probes of an outing with their cups: what each should read, and what a display makes of it."""
    with desk().read() as session:
        outing = outings.outing(session, outing_id)
        now = desk().clock()
        carried = outings.choice(session, outing.round, now).best(now)
        altitude = outing.round.sites[0].altitude_m if outing.round.sites else 0.0
        planned = without_signal.plans(session, [c.probe for c in carried], now, altitude)
        body = {
            "outing": str(outing.id),
            "sites": [{"id": str(s.id), "name": s.name} for s in outing.round.sites],
            "probes": all_in_words([asdict(plan) for plan in planned]),
            "grid_c": without_signal.GRID_C,
            "slips": [{"words": words, "factor": factor} for words, factor in SLIPS],
            "altitude_m": altitude,
            "bounds": {"temperature_c": TYPED_C},
            "send": url_for("rounds.send", outing_id=outing.id),
            "send_run": url_for("rounds.send_run", outing_id=outing.id),
            "keep": [
                url_for("rounds.field", outing_id=outing.id),
                *(url_for("static", filename=name) for name in KEPT),
            ],
            "page": this_path(),
            "me": str(actor().id),
            "me_name": actor().name,
        }
        page = render_template("rounds/cups.html", outing=outing, body=body, me_name=actor().name)
    response = make_response(page)
    response.headers["X-Brumel-User"] = str(actor().id)  # whose page it is, for the worker that keeps it
    return response


class _Strict(BaseModel):
    model_config = ConfigDict(allow_inf_nan=False, extra="forbid")


class _Shown(_Strict):
    value: float
    unit: str = Field(max_length=20)
    temperature_c: float
    after_s: float = Field(ge=0, le=3 * 3600)


class _Cup(_Strict):
    step: str = Field(max_length=40)
    at: datetime
    taken_at: datetime
    shown: list[_Shown] = Field(min_length=1, max_length=late_runs.MOST_VALUES)
    answer: str = Field(default="", max_length=600)
    reference: float | None = None
    reference_u: float | None = None


class _SentRun(_Strict):
    key: str = Field(max_length=40)
    purpose: Literal["calibration", "closing"]
    probe: str = Field(max_length=40)
    method: str = Field(default="", max_length=60)
    started_at: datetime
    finished_at: datetime
    cups: dict[Annotated[str, Field(max_length=40)], Annotated[str, Field(max_length=60)]] = Field(max_length=20)
    read: list[_Cup] = Field(min_length=1, max_length=20)
    settings_same: bool = False
    pressure_hpa: float | None = None
    altitude_m: float | None = None
    use: bool = True
    answers: dict[Annotated[str, Field(max_length=80)], Annotated[str, Field(max_length=600)]] = Field(
        default_factory=dict, max_length=40
    )

    def run(self) -> late_runs.QueuedRun:
        """As the use case takes it."""
        read = [
            late_runs.QueuedCup(
                cup.step,
                cup.at,
                cup.taken_at,
                [bench.TypedValue(s.unit, s.value, s.temperature_c, s.after_s) for s in cup.shown],
                cup.answer,
                cup.reference,
                cup.reference_u,
            )
            for cup in self.read
        ]
        stated = self.pressure_hpa is not None
        return late_runs.QueuedRun(
            purpose=self.purpose,
            probe_id=self.probe,
            method_key=self.method,
            started_at=self.started_at,
            finished_at=self.finished_at,
            cups={step: value for step, value in self.cups.items() if value},
            read=read,
            conditions=Conditions(
                pressure_from="station" if stated else "altitude",
                pressure_hpa=self.pressure_hpa,
                altitude_m=self.altitude_m,
                settings_same=self.settings_same,
            ),
            use=self.use,
            answers=self.answers,
        )


@blueprint.post("/outings/<outing_id>/send-run")
def send_run(outing_id: str) -> Any:
    """One run of the queue: 200 worked out, 422 something to answer or put right."""

    def do() -> dict[str, Any]:
        sent = _SentRun.model_validate_json(request.get_data(cache=False))
        with desk().read() as session:
            outings.outing(session, outing_id)
        kept = late_runs.send_run(desk(), actor(), object_id(sent.key, "run"), sent.run())
        return {"key": sent.key, "run": url_for("bench.run", run_id=kept.run), "words": in_words(kept.words)}

    return answer_queue(do, "run")
