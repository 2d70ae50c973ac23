"""Write docs/glossary.md anew: the names from core/quantities.py, the words from methods/data/glossary.yaml."""

from brumel.core.quantities import QUANTITIES
from brumel.methods.glossary import load_glossary
from brumel.store.cluster import ROOT

PAGE = ROOT / "docs/glossary.md"


def page() -> str:
    """The whole page."""
    text = PAGE.read_text("utf-8")
    head = text[: text.index("| name | label")]
    rows = "".join(f"| `{name}` | {q.label} | {q.symbol} | {q.unit} |\n" for name, q in QUANTITIES.items())
    words = "".join(f"- **{word}**: {sentence}\n" for word, sentence in load_glossary().items())
    table = "| name | label | symbol | unit |\n|---|---|---|---|\n" + rows
    return f"{head}{table}\n## Words\n\n{INTRODUCTION}\n\n{words}\n## Words of the code\n\n{CODE}"


INTRODUCTION = "The words of the work; the page `/glossary` of the application shows the same list."
CODE = """- **dip**: the probe standing in one cup or at one site, from going in until the next dip.
- **turn**: the count of a run's point rows; a form names the turn it was made for.
- **working**: the calculation steps as data.
- **key**: the idempotency key a form carries, so that a repeated send takes effect once.
"""


def main() -> None:
    PAGE.write_text(page(), "utf-8")


if __name__ == "__main__":
    main()
