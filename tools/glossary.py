"""Write the table of docs/glossary.md anew from core/quantities.py."""

from brumel.core.quantities import QUANTITIES
from brumel.store.cluster import ROOT

PAGE = ROOT / "docs/glossary.md"


def main() -> None:
    text = PAGE.read_text("utf-8")
    start, end = text.index("| name | label"), text.index("\n## Words")
    rows = "".join(f"| `{name}` | {q.label} | {q.symbol} | {q.unit} |\n" for name, q in QUANTITIES.items())
    PAGE.write_text(text[:start] + "| name | label | symbol | unit |\n|---|---|---|---|\n" + rows + text[end:], "utf-8")


if __name__ == "__main__":
    main()
