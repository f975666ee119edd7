"""Clefs by our own names, in and out of MusicXML."""

from __future__ import annotations

from lxml import etree

#: Sign, line, octave change.
CLEFS = {
    "treble": ("G", 2, 0),
    "bass": ("F", 4, 0),
    "alto": ("C", 3, 0),
    "tenor": ("C", 4, 0),
    "treble8": ("G", 2, -1),
    "percussion": ("percussion", 0, 0),
}


def clef_element(name: str) -> etree._Element:
    """MusicXML's ``<clef>`` for a name of ``CLEFS``."""
    sign, line, octave = CLEFS[name]
    clef = etree.Element("clef")
    etree.SubElement(clef, "sign").text = sign
    if line:
        etree.SubElement(clef, "line").text = str(line)
    if octave:
        etree.SubElement(clef, "clef-octave-change").text = str(octave)
    return clef


def clef_name(clef: etree._Element) -> str:
    """Our name of a ``<clef>``; its sign and line where we have none."""
    found = (
        (clef.findtext("sign") or "G").strip(),
        int(clef.findtext("line") or 0),
        int(clef.findtext("clef-octave-change") or 0),
    )
    by_sign = {"G": 2, "F": 4, "C": 3}
    sign, line, octave = found[0], found[1] or by_sign.get(found[0], 0), found[2]
    return next((name for name, value in CLEFS.items() if value == (sign, line, octave)), f"{sign}{line}{octave or ''}")
