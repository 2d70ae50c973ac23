"""HTML to PDF, with nothing fetched from anywhere but the files handed in."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any


def render_pdf(html: str, files: Mapping[str, Path]) -> bytes:
    """PDF of a page. `files` maps the URLs the page may name (fonts, style) to files; all others are refused."""
    from weasyprint import HTML  # heavy to import; only printing pays for it
    from weasyprint.urls import URLFetcher, URLFetcherResponse

    class Shelf(URLFetcher):
        def fetch(self, url: str, headers: Any = None) -> Any:
            name = url.removeprefix("brumel:")
            if name not in files:
                raise ValueError(f"not on the shelf: {url[:80]}")
            return URLFetcherResponse(url, files[name].open("rb"))

    return bytes(HTML(string=html, base_url="brumel:", url_fetcher=Shelf()).write_pdf())
