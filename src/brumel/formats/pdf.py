"""HTML to PDF, with nothing fetched from anywhere but the files handed in."""

from __future__ import annotations

import re
import threading
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cached_property
from pathlib import Path
from typing import Any

#: Tagged, so that a reader that speaks knows headings, tables and their order.
TAGGED: dict[str, Any] = {"pdf_tags": True}
_UNITS = r"(?:µS/cm|mS/cm|mg/L|mV|°C|°F|hPa|kPa|mmHg|inHg|pH|PSS-78|NTU|mL|km|cm|m|ft|s|min|h|d|%)"
_PARTED = re.compile(rf"(\d) (?={_UNITS}(?![\w/]))")


def keep_together(html: str) -> str:
    """The same with a space that does not break between a number and its unit, and around ±."""
    return _PARTED.sub("\\1\u00a0", html).replace(" ± ", "\u00a0±\u00a0")


_SVG = re.compile(r"<svg\b[^>]*>")
#: A picture that stands in the page itself; nothing is fetched for it.
_PICTURES = ("data:image/png;base64,", "data:image/jpeg;base64,")
_KINDS = {".css": "text/css", ".woff2": "font/woff2", ".svg": "image/svg+xml", ".jpg": "image/jpeg"}


class Press:
    """Prints pages of one style. Its fonts and its style are read once; it prints one document at a time.

    files : the URLs the pages and the style may name (fonts, pictures), each with its file; all others are refused
    styles : the style sheets of the pages, in their order
    drawing_style : the rules of the drawings; the page's own style does not reach inside an SVG
    """

    def __init__(self, files: Mapping[str, Path], styles: Sequence[Path], drawing_style: Path) -> None:
        self._files, self._styles, self._drawing_style = files, styles, drawing_style
        self._one_at_a_time = threading.Lock()

    def print(self, html: str) -> bytes:
        """The PDF of one page of HTML."""
        with self._one_at_a_time:
            return bytes(self._laid_out(html).write_pdf(**TAGGED))

    def document(self, html: str, paper: str = "A4") -> tuple[bytes, int]:
        """The PDF of one page of HTML on A4 or Letter, and of how many sheets it is. No number is parted from its unit."""
        from weasyprint import CSS

        with self._one_at_a_time:
            laid_out = self._laid_out(keep_together(html), CSS(string=f"@page {{ size: {paper.lower()} }}"))
            return bytes(laid_out.write_pdf(**TAGGED)), len(laid_out.pages)

    def print_on_one_sheet(self, html: str, sizes_pt: Iterable[float] = (9.5, 8.5, 7.5, 6.5)) -> bytes:
        """The PDF of one page of HTML in the largest of these letters that keeps it on one sheet; else in the smallest."""
        from weasyprint import CSS

        with self._one_at_a_time:
            for size in sizes_pt:
                document = self._laid_out(html, CSS(string=f"body {{ font-size: {size}pt }}"))
                if len(document.pages) == 1:
                    break
            return bytes(document.write_pdf(**TAGGED))

    def print_all(self, pages: Iterable[str], told: Callable[[int], None] = lambda _: None) -> bytes:
        """One PDF of several, each beginning on a sheet of its own. `told` hears how many are laid out."""
        sheets: list[Any] = []
        first: Any = None
        for done, html in enumerate(pages, 1):
            with self._one_at_a_time:
                document = self._laid_out(html)
            first = first or document
            sheets += document.pages
            told(done)
        with self._one_at_a_time:
            return bytes(first.copy(sheets).write_pdf(**TAGGED))

    def make_ready(self) -> None:
        """Load what the first document would have to wait for."""
        self.print(
            "<!doctype html><title>-</title><h1>0</h1><h2>0</h2><p><b>0</b><small>0</small></p><ul><li>0</li></ul>"
            "<table><thead><tr><th>0</th></tr></thead><tbody><tr><td>0</td><td>0</td></tr></tbody></table>"
            '<svg viewBox="0 0 9 9" width="9" height="9"><g><path d="M0,0 H9"/><circle r="1"/><text>0</text></g></svg>'
        )

    def _laid_out(self, html: str, *more: Any) -> Any:
        from weasyprint import HTML

        sheet, fonts = self._sheet
        if self._drawing_rules:
            html = _SVG.sub(lambda tag: f"{tag.group(0)}<style>{self._drawing_rules}</style>", html)
        page = HTML(string=html, base_url="brumel:", url_fetcher=self._fetcher)
        return page.render(stylesheets=[sheet, *more], font_config=fonts)

    @cached_property
    def _drawing_rules(self) -> str:
        return self._drawing_style.read_text("utf-8")

    @cached_property
    def _sheet(self) -> tuple[Any, Any]:
        from weasyprint import CSS
        from weasyprint.text.fonts import FontConfiguration

        fonts = FontConfiguration()
        style = "\n".join(path.read_text("utf-8") for path in self._styles)
        return CSS(string=style, base_url="brumel:", url_fetcher=self._fetcher, font_config=fonts), fonts

    @cached_property
    def _fetcher(self) -> Any:
        from weasyprint.urls import URLFetcher, URLFetcherResponse  # heavy to import; only printing pays for it

        files = self._files

        class Shelf(URLFetcher):
            def fetch(self, url: str, headers: Any = None) -> Any:
                if url.startswith(_PICTURES):
                    return super().fetch(url, headers)
                name = url.removeprefix("brumel:")
                if name not in files:
                    raise ValueError(f"not on the shelf: {url[:80]}")
                # Without its type a style sheet is left out in silence.
                kind = _KINDS[files[name].suffix]
                return URLFetcherResponse(url, files[name].open("rb"), headers={"Content-Type": kind})

        return Shelf()
