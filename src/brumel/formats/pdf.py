"""HTML to PDF, with nothing fetched from anywhere but the files handed in."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

_SVG = re.compile(r"<svg\b[^>]*>")
_KINDS = {".css": "text/css", ".woff2": "font/woff2", ".svg": "image/svg+xml", ".jpg": "image/jpeg"}


def render_pdf(html: str, files: Mapping[str, Path], drawing_style: str = "") -> bytes:
    """PDF of a page. `files` maps the URLs the page may name (fonts, style) to files; all others are refused.

    drawing_style : the rules of the drawings; the page's own style does not reach inside an SVG
    """
    from weasyprint import HTML  # heavy to import; only printing pays for it
    from weasyprint.urls import URLFetcher, URLFetcherResponse

    class Shelf(URLFetcher):
        def fetch(self, url: str, headers: Any = None) -> Any:
            name = url.removeprefix("brumel:")
            if name not in files:
                raise ValueError(f"not on the shelf: {url[:80]}")
            # Without its type a style sheet is left out in silence.
            kind = _KINDS[files[name].suffix]
            return URLFetcherResponse(url, files[name].open("rb"), headers={"Content-Type": kind})

    if drawing_style:
        html = _SVG.sub(lambda tag: f"{tag.group(0)}<style>{drawing_style}</style>", html)
    return bytes(HTML(string=html, base_url="brumel:", url_fetcher=Shelf()).write_pdf())
