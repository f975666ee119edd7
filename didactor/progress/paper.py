"""Pages on paper: our own templates as PDF. Nothing is fetched from anywhere: fonts and styles come from the site's own files."""

from __future__ import annotations

import re
from functools import cache
from pathlib import Path
from typing import Any

from django.contrib.staticfiles import finders
from django.http import HttpResponse
from django.template.loader import render_to_string
from django.utils.http import content_disposition_header
from django.utils.text import get_valid_filename
from lxml import etree

from didactor.progress.printing import printed

#: Names and figures in drawings over weeks are set like the text around them.
_NAMES = "text.name, text.date, text.figure { font-family: Atkinson, sans-serif; }"
SVG = "{http://www.w3.org/2000/svg}"
_FILE = re.compile(r'url\("\.\./(vendor/[\w.-]+\.woff2)"\)')
_VARIABLE = re.compile(r"(--[\w-]+):\s*([^;]+);")
_MIX = re.compile(r"color-mix\(in srgb, (#?\w+) ([\d.]+)%, (#?\w+)\)")
_USE = re.compile(r"var\((--[\w-]+)\)")


def pdf_file(template: str, context: dict[str, Any], name: str) -> HttpResponse:
    """A template as a PDF to be kept."""
    answer = HttpResponse(on_paper(template, context), content_type="application/pdf")
    answer["Content-Disposition"] = content_disposition_header(True, f"{get_valid_filename(name)}.pdf")
    return answer


def on_paper(template: str, context: dict[str, Any]) -> bytes:
    """A template as a PDF."""
    return printed(render_to_string(template, context), own_fonts() + read_own("css/paper.css"))


def drawn_on_paper(svg: str) -> str:
    """A drawing with its styles inside and none nested in another, as the PDF's own reader of drawings wants it."""
    root = etree.fromstring(svg.encode())
    for inner in [found for found in root.iter(f"{SVG}svg") if found is not root]:
        left, top, width, _ = (float(value) for value in inner.get("viewBox", "0 0 1 1").split())
        outer = [float(value) for value in root.get("viewBox", "").split()]
        scale = outer[2] / width if width else 1.0
        inner.tag = f"{SVG}g"
        inner.set("transform", f"scale({scale:.6f}) translate({-left:g},{-top:g})")
        for name in ("viewBox", "width", "height"):
            inner.attrib.pop(name, "")
    style = etree.Element(f"{SVG}style")
    style.text = _styles_of_drawings()
    root.insert(0, style)
    return str(etree.tostring(root, encoding="unicode"))


@cache
def read_own(name: str) -> str:
    path = finders.find(name)
    if path is None:
        raise FileNotFoundError(name)
    return Path(str(path)).read_text()


@cache
def own_fonts() -> str:
    """The font faces of the pages, pointing at the site's own files."""
    faces = re.findall(r"@font-face \{[^}]+\}", read_own("css/tokens.css"))
    return "\n".join(_FILE.sub(r'url("own:\1")', face) for face in faces)


@cache
def _styles_of_drawings() -> str:
    """Rules for drawings with the values of light paper in the place of variables, which the reader of drawings does not know."""
    values = dict(_VARIABLE.findall(read_own("css/tokens.css").split(":root {")[1].split("}")[0]))
    weeks = re.findall(r"\.weeks [^{]*\{[^}]*\}", read_own("css/app.css"))
    rules = re.sub(r"@media[^{]+\{(?:[^{}]*\{[^}]*\})*[^}]*\}", "", read_own("css/score.css")) + "\n".join([*weeks, _NAMES])
    resolved = _MIX.sub(_mixed, _USE.sub(lambda found: values.get(found[1], "#000000"), rules))
    still = re.sub(r"[^{}]*:hover[^{}]*\{[^}]*\}", "", resolved).replace("transparent", "none")
    return re.sub(r"(?:\bsvg\.score|\.weeks)\s+(?!\{)", "", still)


def _mixed(found: re.Match[str]) -> str:
    """``color-mix`` of two plain colours, worked out; of anything else the first."""
    one, share, other = found[1], float(found[2]) / 100, found[3]
    if not (one.startswith("#") and other.startswith("#") and len(one) == len(other) == 7):
        return one
    pairs = zip(bytes.fromhex(one[1:]), bytes.fromhex(other[1:]), strict=True)
    return "#" + "".join(f"{round(share * a + (1 - share) * b):02x}" for a, b in pairs)
