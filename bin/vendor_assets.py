"""Copies the few files that pages load from the installed packages into the state folder, for collectstatic.

Whole packages would be a thousand files. The music text font comes out of the engraver's own data.
"""

from __future__ import annotations

import base64
import os
import re
import shutil
from pathlib import Path

import verovio

ROOT = Path(__file__).resolve().parents[1]
TARGET = Path(os.environ.get("DIDACTOR_STATE", ROOT / "var")) / "vendor"
FILES = {
    "bootstrap/dist/css/bootstrap.min.css": "bootstrap.min.css",
    "bootstrap/dist/css/bootstrap.rtl.min.css": "bootstrap.rtl.min.css",
    "htmx.org/dist/htmx.min.js": "htmx.min.js",
    "tus-js-client/dist/tus.min.js": "tus.min.js",
    "idb/build/umd.js": "idb.min.js",
    **{
        f"@fontsource/spectral/files/spectral-{subset}-{face}.woff2": f"spectral-{subset}-{face}.woff2"
        for subset in ("latin", "latin-ext")
        for face in ("400-normal", "400-italic", "500-normal", "600-normal")
    },
    **{
        f"@fontsource/atkinson-hyperlegible/files/atkinson-hyperlegible-{subset}-{face}.woff2": f"atkinson-{subset}-{face}.woff2"
        for subset in ("latin", "latin-ext")
        for face in ("400-normal", "400-italic", "700-normal")
    },
}


def main() -> None:
    shutil.rmtree(TARGET, ignore_errors=True)
    TARGET.mkdir(parents=True)
    for source, name in FILES.items():
        text = ROOT / "node_modules" / source
        if name.endswith((".js", ".css")):
            # Source maps are not shipped, and a manifest would look for them.
            content = re.sub(r"(//|/\*)# sourceMappingURL=.*", "", text.read_text())
            (TARGET / name).write_text(content)
        else:
            shutil.copyfile(text, TARGET / name)
    music = (Path(verovio.__file__).parent / "data" / "Leipzig.css").read_text()
    match = re.search(r"base64,([^)]+)\)", music)
    if match is None:
        raise SystemExit("The engraver's music font was not found where it used to be.")
    (TARGET / "leipzig.woff2").write_bytes(base64.b64decode(match[1]))


if __name__ == "__main__":
    main()
