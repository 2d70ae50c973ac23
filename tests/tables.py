"""Reading the published tables of tests/data."""

import csv
from pathlib import Path

DATA = Path(__file__).parent / "data"


def rows(name: str) -> list[dict[str, str]]:
    """The rows of a table; lines that start with # say where it comes from."""
    lines = [line for line in (DATA / name).read_text("utf-8").splitlines() if not line.startswith("#")]
    return list(csv.DictReader(lines))
