"""Write the pictures of docs/architecture.md anew: the house from its imports, the data model from its tables."""

from __future__ import annotations

import re

import grimp

from brumel.store import sessions  # noqa: F401 - all tables are known once it is imported
from brumel.store.cluster import ROOT
from brumel.store.tables import Base

PAGE = ROOT / "docs/architecture.md"
FLOORS = ("web", "work", "formats", "meters", "store", "methods", "core")
#: The rooms of work, the highest floor first; pyproject.toml holds them to it.
ROOMS = (
    ("demo",),
    ("practice",),
    ("records",),
    ("rounds",),
    ("bench", "simulator"),
    ("link",),
    ("kit", "worksheet", "people", "jobs"),
    ("quantities",),
    ("questions", "air"),
    ("desk",),
)


def house() -> str:
    """The floors and the rooms of work as a flow chart; an arrow says who asks whom, through the rooms nearest below."""
    graph = grimp.build_graph("brumel")
    lines = ["```mermaid", "flowchart TD", "  subgraph work"]
    for floor in ROOMS:
        lines.append("    " + " & ".join(floor))
    names = [name for floor in ROOMS for name in floor]
    pairs = {
        (a, b)
        for a in names
        for b in names
        if a != b and graph.find_shortest_chain(f"brumel.work.{a}", f"brumel.work.{b}", as_packages=True)
    }
    direct = {(a, b) for a, b in pairs if not any((a, c) in pairs and (c, b) in pairs for c in names)}
    lines += [f"    {a} --> {b}" for a, b in sorted(direct)]
    lines += [
        "  end",
        "  web --> work",
        "  work --> formats & meters & store",
        "  formats & meters & store --> methods",
    ]
    lines += ["  methods --> core", "```"]
    return "\n".join(lines)


def data_model() -> str:
    """The tables and who points at whom."""
    lines = ["```mermaid", "erDiagram"]
    for table in sorted(Base.metadata.tables.values(), key=lambda t: t.name):
        targets = sorted({(key.column.table.name, key.parent.name) for key in table.foreign_keys})
        lines += [f"  {target} ||--o{{ {table.name} : {column}" for target, column in targets if target != "users"]
        lines += [f"  {table.name} {{ }}"] if not [t for t, _ in targets if t != "users"] else []
    return "\n".join([*lines, "```"])


def page(text: str) -> str:
    """The document with both pictures as they are now."""
    for name, drawn in (("house", house()), ("data model", data_model())):
        start, end = f"<!-- {name} -->", f"<!-- end of {name} -->"
        text = re.sub(f"{start}.*?{end}", lambda _, s=start, e=end, d=drawn: f"{s}\n{d}\n{e}", text, flags=re.S)
    return text


if __name__ == "__main__":
    PAGE.write_text(page(PAGE.read_text("utf-8")), "utf-8")
