"""What is counted: requests and how long they took, by endpoint, in all workers of a server together."""

from __future__ import annotations

import os

from prometheus_client import (
    CONTENT_TYPE_LATEST,
    REGISTRY,
    CollectorRegistry,
    Counter,
    Gauge,
    Histogram,
    generate_latest,
)
from prometheus_client.multiprocess import MultiProcessCollector

#: The bounds of the buckets of how long a request took [s].
BUCKETS = (0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.0, 5.0, 15.0)

requests = Counter("brumel_requests", "Requests answered", ["endpoint", "method", "status"])
took = Histogram("brumel_request_seconds", "How long a page took, without its live part", ["endpoint"], buckets=BUCKETS)
refused_sign_ins = Counter("brumel_refused_sign_ins", "Sign-ins that were refused")


def text(jobs: dict[str, int]) -> tuple[bytes, str]:
    """The figures as text with their content type; `jobs` by state as the database has them now."""
    registry: CollectorRegistry = REGISTRY
    if "PROMETHEUS_MULTIPROC_DIR" in os.environ:
        registry = CollectorRegistry()
        MultiProcessCollector(registry)
    now = CollectorRegistry()
    gauge = Gauge("brumel_jobs", "Jobs by state", ["state"], registry=now)
    for state, count in jobs.items():
        gauge.labels(state).set(count)
    return generate_latest(registry) + generate_latest(now), CONTENT_TYPE_LATEST
