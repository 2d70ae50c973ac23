"""Write docs/references.md anew from methods/data/sources.yaml."""

from brumel.methods.sources import load_sources
from brumel.store.cluster import ROOT

PAGE = ROOT / "docs/references.md"
HEAD = """# Sources

Each key is used in code, methods or tests, and each one used there is listed here; a test holds both. The application shows
the same list at `/glossary/sources`. This page is written by `tools/references.py`.

"""
FOOT = """
Figures marked "common practice, no source" are what technicians do and say; figures marked "from memory" were recalled
from printed tables and are cross-checked in the tests where an independent source exists.
"""


def page() -> str:
    """The whole page."""
    return HEAD + "".join(f"- **{key}** {title}\n" for key, title in load_sources().items()) + FOOT


def main() -> None:
    PAGE.write_text(page(), "utf-8")


if __name__ == "__main__":
    main()
