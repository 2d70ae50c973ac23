"""A campaign against the whole application: as anybody, technician and lead it walks pages, fills in their forms as a person
would and as nobody should, sends bodies to whatever takes JSON, and tells of every answer that is an error of ours.

`./brumel campaign --seconds 120 --seed 7` runs it on a database of its own, which is thrown away; the same seed asks in the
same order, so what was found can be found again.
"""

from __future__ import annotations

import argparse
import copy
import io
import json
import os
import random
import re
import sys
import time
import traceback
import uuid
from collections import Counter
from dataclasses import dataclass, field
from html.parser import HTMLParser
from typing import Any
from urllib.parse import quote, urlsplit

from flask import Flask, got_request_exception, request, request_finished
from PIL import Image

from brumel.work.demo.load import PASSWORD

#: What no form asks for.
RUBBISH = (
    "",
    " ",
    "\x00",
    "a\x00b",
    "\ud800",
    "-1",
    "0",
    "NaN",
    "-inf",
    "1e400",
    "9" * 400,
    "²",
    "２",
    "1,5",
    "1.234,5",
    "12 mS/cm",
    "70 °F",
    "<script>alert(1)</script>",
    "' or 1=1 --",
    "{{7*7}}",
    "=cmd()",
    "../../etc/passwd",
    "\u202eabc",
    "a" * 6000,
    "0001-01-01",
    "9999-12-31T23:59",
    "2026-02-30",
    "0001-01-01T00:00:00+14:00",
    "null",
    "[" * 2000,
    "25: 7.01\n25: 7.02",
    "FREQ=SECONDLY;COUNT=99999999",
    "Mars/Olympus",
)
#: What many a form asks for.
USUAL = (
    "7.01",
    "4.0",
    "8.2",
    "20",
    "24,5",
    "1013",
    "0",
    "100",
    "1413",
    "Looked at it twice",
    "2026-11-25",
    "2026-11-25T08:15",
)
QUERIES = (
    "page",
    "site",
    "quantity",
    "since",
    "until",
    "words",
    "sort",
    "rows",
    "method",
    "next",
    "kind",
    "after",
    "limit",
    "t",
    "c",
)
#: What would end the campaign, or its person.
LEFT_ALONE = ("/sign-out", "/account/password", "/deactivate", "/invite-again", "/role", "/sessions/")
#: Statuses that are no error of ours.
FINE = {200, 201, 202, 204, 302, 303, 304, 308, 400, 401, 403, 404, 405, 408, 409, 413, 415, 422, 429, 503}


class _Page(HTMLParser):
    """Links and forms of a page; a form as its address, method and fields with what they may hold."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.links: list[str] = []
        self.forms: list[dict[str, Any]] = []
        self._select = ""
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        given = {name: value or "" for name, value in attrs}
        name = given.get("name", "")
        if tag == "a" and given.get("href", "").startswith("/"):
            self.links.append(given["href"])
        elif tag == "form":
            self.forms.append({"to": given.get("action", ""), "how": given.get("method", "get").lower(), "fields": []})
        elif not self.forms:
            return
        elif tag in ("input", "button") and name:
            self.forms[-1]["fields"].append((name, given.get("type", "text"), [given.get("value", "")]))
        elif tag == "textarea" and name:
            self.forms[-1]["fields"].append((name, "text", [""]))
        elif tag == "select":
            self.forms[-1]["fields"].append((name, "select", []))
        elif tag == "option" and self.forms[-1]["fields"]:
            self.forms[-1]["fields"][-1][2].append(given.get("value", ""))


@dataclass
class Finding:
    """An answer that is an error of ours."""

    number: int
    who: str
    method: str
    path: str
    status: int
    sent: str
    error: str

    def __str__(self) -> str:
        asked = f"#{self.number} {self.who} {self.method} {self.path[:200]} -> {self.status}"
        return f"{asked}\n  {self.error}\n  sent {self.sent[:500]}"


@dataclass
class Campaign:
    """One campaign on an application; `run` until the time is over."""

    app: Flask
    seed: int
    findings: list[Finding] = field(default_factory=list)
    statuses: Counter[int] = field(default_factory=Counter)
    endpoints: set[str] = field(default_factory=set)
    asked: int = 0

    def __post_init__(self) -> None:
        self._chance = random.Random(self.seed)  # noqa: S311 - to be drawn again
        self.app.config["RATELIMIT_ENABLED"] = False
        self.app.testing, self.app.config["PROPAGATE_EXCEPTIONS"] = False, False
        self._error = ""
        got_request_exception.connect(self._caught, self.app)
        request_finished.connect(self._answered, self.app)
        self._people = {
            "anybody": self.app.test_client(),
            "ansa": self._signed_in("ansa"),
            "ilka": self._signed_in("ilka"),
        }
        rules = [r for r in self.app.url_map.iter_rules() if not r.arguments and "GET" in (r.methods or ())]
        self._known: list[str] = sorted({r.rule for r in rules})
        self._seen: Counter[str] = Counter()
        self._bodies = list(self._described())

    def run(self, seconds: float, most: int = 10**9) -> None:
        """Ask until the time is over, so much was asked, or twenty errors are enough to look at."""
        end = time.monotonic() + seconds
        while time.monotonic() < end and self.asked < most and len(self.findings) < 20:
            self._chance.choices((self._walk, self._body, self._file), (8, 2, 0.5))[0]()

    # -- what is asked

    def _walk(self) -> None:
        who = self._chance.choices(("ilka", "ansa", "anybody"), (5, 4, 1))[0]
        few = self._chance.sample(self._known, min(6, len(self._known)))
        path = min(few, key=lambda known: self._seen[_kind(known)])
        self._seen[_kind(path)] += 1
        query = {}
        if self._chance.random() < 0.25:
            query = {name: self._value([]) for name in self._chance.sample(QUERIES, 3)}
        answer = self._ask(who, "GET", _spoiled(path, self._chance), query=query)
        if (
            answer is None
            or answer.mimetype != "text/html"
            or (answer.content_length and answer.content_length > 900_000)
        ):
            return
        page = _Page(answer.get_data(as_text=True))
        self._know(page.links)
        forms = [form for form in page.forms if not any(word in form["to"] for word in LEFT_ALONE)]
        for form in self._chance.sample(forms, min(2, len(forms))):
            self._fill(who, path, form)

    def _fill(self, who: str, path: str, form: dict[str, Any]) -> None:
        wild = self._chance.choice((0.0, 0.05, 0.3, 0.9))
        data: dict[str, list[str]] = {}
        for name, kind, values in form["fields"]:
            if kind in ("file", "submit", "button") or (kind in ("checkbox", "radio") and self._chance.random() < 0.5):
                continue
            is_kept = name == "csrf_token" or (kind == "hidden" and self._chance.random() > wild / 2)
            value = values[0] if is_kept and values else self._value(values, wild)
            data.setdefault(name, []).append(value)
        if self._chance.random() < 0.1:
            data[self._chance.choice(("key", "turn", "seen", "extra", "why:ph"))] = [self._value([], 1.0)]
        to = form["to"] or path
        self._ask(who, "POST" if form["how"] == "post" else "GET", to, data=data)

    def _value(self, values: list[str], wild: float = 1.0) -> str:
        if self._chance.random() < wild:
            return self._chance.choice(RUBBISH)
        real = [value for value in values if value]
        return self._chance.choice(real) if real and self._chance.random() < 0.85 else self._chance.choice(USUAL)

    def _body(self) -> None:
        path, body = self._chance.choice(self._bodies)
        sent = self._mutated(copy.deepcopy(body))
        try:
            data = json.dumps(sent).encode()
        except (ValueError, RecursionError):
            return
        if self._chance.random() < 0.1:
            data = self._chance.choice((data[:-3], b"\xff" + data, b"[" * 100_000, b"", b"null", data * 40))
        headers = {"Content-Type": "application/json"}
        if path.startswith(("/api", "/link")):
            headers["Authorization"] = self._chance.choice(("Bearer x", "Bearer ", "Basic eDp5", "Bearer " + "ü" * 5))
        self._ask(self._chance.choice(("ilka", "ansa")), "POST", path, body=data, headers=headers)

    def _mutated(self, body: Any) -> Any:
        for _ in range(self._chance.randint(0, 3)):
            place, key = self._place(body)
            if place is None:
                break
            wrong = (None, [], {}, True, -1, 10**400, 1e308, "\x00", "\ud800", "a" * 3000, [[]] * 50, *RUBBISH[:12])
            place[key] = self._chance.choice(wrong)
        return body

    def _place(self, body: Any) -> tuple[Any, Any]:
        while isinstance(body, dict | list) and body:
            key = self._chance.choice(sorted(body)) if isinstance(body, dict) else self._chance.randrange(len(body))
            if not isinstance(body[key], dict | list) or self._chance.random() < 0.3:
                return body, key
            body = body[key]
        return None, None

    def _file(self) -> None:
        picture = io.BytesIO()
        Image.new("RGB", (self._chance.choice((1, 300)), 200), "teal").save(picture, "JPEG")
        table = b"site,time,ph,temperature\r\nCreek mouth,2026-11-02T09:00+01:00,7.4,8\r\n"
        contents = (
            picture.getvalue(),
            picture.getvalue()[:-90],
            table,
            table * 300,
            b"",
            b"\x00" * 900,
            b"PK\x03\x04" + b"x" * 60,
        )
        known = [p for p in self._known if re.search(r"visits/|imports|logger|sites", p)]
        if not known:
            return
        path = self._chance.choice(known)
        answer = self._ask("ilka", "GET", path)
        if answer is None or answer.mimetype != "text/html":
            return
        for form in _Page(answer.get_data(as_text=True)).forms:
            names = [name for name, kind, _ in form["fields"] if kind == "file"]
            if not names:
                continue
            data: dict[str, Any] = {n: v[0] for n, k, v in form["fields"] if k not in ("file", "submit") and v}
            name = self._chance.choice(("a.csv", "b.xlsx", "c.jpg", "../../d.json", "\u202eg.zip", ""))
            data |= {each: (io.BytesIO(self._chance.choice(contents)), name) for each in names}
            self._ask("ilka", "POST", form["to"] or path, data=data)

    def _described(self) -> list[tuple[str, Any]]:
        """Bodies that are meant, for every address that takes JSON."""
        some = str(uuid.uuid4())
        visit = {
            "key": some,
            "site": some,
            "at": "2026-11-25T08:15:00+01:00",
            "temperature_c": 8.1,
            "rows": [{"probe": some, "value": 7.4, "signal": "ph", "answers": {"far": "known here"}}],
            "photos": [{"name": "a.jpg", "jpeg": "AAAA"}],
        }
        api = {
            "site_id": some,
            "sets": [
                {
                    "at": "2026-11-25T08:15:00Z",
                    "temperature_c": 8.1,
                    "readings": [{"probe_id": some, "value": 7.4, "entered_as": "ph"}],
                }
            ],
            "note": "ice",
        }
        return [
            ("/link/hello", {"agent": "campaign"}),
            ("/link/samples", {"session": some, "rows": [["0", 1.0, 7.0, 20.0]], "now": 3.0}),
            ("/link/wait", {}),
            (f"/rounds/outings/{some}/send", {"visits": [visit], **visit}),
            ("/api/v1/visits", api),
        ]

    # -- how it is asked

    def _signed_in(self, name: str) -> Any:
        client = self.app.test_client()
        token = re.search(r'name="csrf_token"[^>]*value="([^"]+)"', client.get("/sign-in").text)
        assert token
        answer = client.post("/sign-in", data={"csrf_token": token.group(1), "username": name, "password": PASSWORD})
        assert answer.status_code == 302, "the campaign cannot sign in"
        return client

    def _answered(self, _: Flask, **__: Any) -> None:
        self.endpoints.add(f"{request.method} {request.endpoint}")

    def _caught(self, _: Flask, exception: BaseException, **__: Any) -> None:
        last = traceback.extract_tb(exception.__traceback__)[-1]
        ours = [frame for frame in traceback.extract_tb(exception.__traceback__) if "/brumel/" in frame.filename]
        place = ours[-1] if ours else last
        self._error = (
            f"{type(exception).__name__}: {str(exception)[:200]} at {place.filename.split('/src/')[-1]}:{place.lineno}"
        )

    def _ask(
        self,
        who: str,
        method: str,
        path: str,
        *,
        query: Any = None,
        data: Any = None,
        body: bytes = b"",
        headers: Any = None,
    ) -> Any:
        self.asked, self._error = self.asked + 1, ""
        given: dict[str, Any] = (
            {"data": body, "headers": headers} if body or headers else {"data": data} if data else {}
        )
        if query:
            path = (
                path.split("?")[0]
                + "?"
                + "&".join(f"{quote(n)}={quote(v, errors='surrogatepass')}" for n, v in query.items())
            )
        try:
            answer = self._people[who].open(
                path, method=method, follow_redirects=False, buffered=_is_short(path), **given
            )
        except (UnicodeError, ValueError):
            return None  # what no client could send
        self.statuses[answer.status_code] += 1
        if answer.status_code not in FINE or self._error:
            sent = body.decode("utf-8", "replace") if body else repr(data)
            error = self._error or "no exception was caught"
            self.findings.append(Finding(self.asked, who, method, path, answer.status_code, sent, error))
        if answer.location:
            self._know([urlsplit(answer.location).path])
        if not _is_short(path):
            answer.close()
            return None
        return answer

    def _know(self, links: list[str]) -> None:
        kinds = Counter(_kind(path) for path in self._known)
        for link in links:
            path = link.split("#")[0]
            is_ours = path.startswith("/") and not path.startswith(("//", "/static"))
            if is_ours and path not in self._known and kinds[_kind(path)] < 12:
                self._known.append(path)
                kinds[_kind(path)] += 1


def _is_short(path: str) -> bool:
    return not path.split("?")[0].endswith("/stream")


def _kind(path: str) -> str:
    """An address without its ids: pages of a sort are one."""
    return re.sub(r"[0-9a-f]{8}-[0-9a-f-]{27}|\d+", "*", path.split("?")[0])


def _spoiled(path: str, chance: random.Random) -> str:
    """Now and then an id that is none, or a query that cannot be read."""
    luck = chance.random()
    if luck < 0.04:
        return re.sub(r"[0-9a-f]{8}-[0-9a-f-]{27}", chance.choice(("x", "%00", "%ED%A0%80", "²", "0" * 300)), path)
    return path + "?page=²&since=0001-01-01&t=9e999" if luck < 0.07 and "?" not in path else path


def main() -> None:
    """Run a campaign on a database of its own and say what it found."""
    from brumel.config import Config, sqlalchemy_url
    from brumel.store.migrate import migrate
    from brumel.store.sessions import make_engine, make_sessions
    from brumel.web import create_app
    from brumel.work import demo
    from brumel.work.desk import Desk

    given = argparse.ArgumentParser()
    given.add_argument("--seconds", type=float, default=120)
    given.add_argument("--seed", type=int, default=1)
    asked = given.parse_args()
    owner, app_url = (os.environ[name] for name in ("BRUMEL_TEST_CLUSTER", "BRUMEL_TEST_APP"))
    migrate(sqlalchemy_url(owner))
    demo.load_demo(Desk(make_sessions(make_engine(app_url))), weeks=1)
    campaign = Campaign(create_app(Config(app_url, "c" * 40, demo=True, insecure_cookies=True)), asked.seed)
    campaign.run(asked.seconds)
    print(
        f"{campaign.asked} requests of {len(campaign.endpoints)} routes, answers {dict(sorted(campaign.statuses.items()))}"
    )
    for finding in campaign.findings:
        print(finding)
    sys.exit(bool(campaign.findings))


if __name__ == "__main__":
    main()
