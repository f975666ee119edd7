"""HTML to PDF."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path

from django.contrib.staticfiles import finders
from weasyprint import CSS, HTML
from weasyprint.text.fonts import FontConfiguration
from weasyprint.urls import URLFetcher, URLFetcherResponse

_FONT = re.compile(r"own:vendor/[\w.-]+\.woff2")


def printed(page: str, styles: str) -> bytes:
    """The PDF of a page with its styles; whatever it names outside the site's own fonts is left out."""
    fonts, own = FontConfiguration(), OwnFiles()
    sheet = CSS(string=styles, url_fetcher=own, font_config=fonts)
    body: bytes = HTML(string=page, url_fetcher=own).write_pdf(stylesheets=[sheet], font_config=fonts)
    return body


class OwnFiles(URLFetcher):  # type: ignore[misc]
    """Refuses every address but those of the site's own fonts."""

    def fetch(self, url: str, headers: Mapping[str, str] | None = None) -> URLFetcherResponse:
        path = finders.find(url.removeprefix("own:")) if _FONT.fullmatch(url) else None
        if path is None:
            raise ValueError(f"nothing is fetched for a page on paper: {url}")
        return URLFetcherResponse(url, Path(str(path)).read_bytes(), {"Content-Type": "font/woff2"})
