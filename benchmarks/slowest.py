"""What takes longest of the demo: every link of every page, asked for as the lead, and the dearest of each kind."""

from __future__ import annotations

import re
import time
from collections import Counter, defaultdict

from flask import request
from tests.web.conftest import sign_in
from tests.web.test_every_page import Page

from brumel.config import Config
from brumel.web import create_app
from brumel.web.jobs import kinds as kinds_of_jobs
from brumel.work.desk import Desk

#: No single request may take longer [s]; what does streams, or is a job.
MOST_S = 2.0
#: So many of a kind are asked for; a page of another reading is the same page.
OF_A_KIND = 4


def main(url: str, desk: Desk) -> None:
    """Print how long the slowest request of each route took, the slowest first, and how many are over."""
    app = create_app(Config(url, "b" * 40, demo=True, insecure_cookies=True, zone="Europe/Oslo"))
    kinds_of_jobs.make_ready(app)  # as a worker does soon after its start
    named: list[str] = []
    app.before_request(lambda: named.append(request.endpoint or ""))
    client = sign_in(app, "ilka")
    waiting, seen, kinds = ["/"], set(), Counter[str]()
    took: dict[str, tuple[float, str]] = defaultdict(lambda: (0.0, ""))
    while waiting:
        path = waiting.pop()
        kind = re.sub(r"[0-9a-f-]{36}|(?<=sources/).*", "*", re.sub(r"=[^&]*", "=", path))
        if path in seen or kinds[kind] >= OF_A_KIND:
            continue
        seen.add(path)
        kinds[kind] += 1
        began = time.perf_counter()
        answer = client.get(path, follow_redirects=True)
        body = answer.data  # all of it, also where it streams
        spent = time.perf_counter() - began
        took[named[-1]] = max(took[named[-1]], (spent, f"{answer.status_code} {path} {len(body) / 1e3:.0f} kB"))
        if answer.mimetype == "text/html":
            waiting += [link.split("#")[0] for link in Page(answer.text).links if link.startswith("/")]
    dear = sorted(((spent, name, what) for name, (spent, what) in took.items()), reverse=True)
    print(f"{len(seen)} requests to {len(took)} routes; {sum(s > MOST_S for s, _, _ in dear)} over {MOST_S:g} s")
    for spent, name, what in dear[:20]:
        print(f"{spent:8.2f} s  {name:<32} {what}")
