"""Builds the styles and brings fonts and scripts into the application (needs Node); ``--check`` tells whether they are stale."""

from __future__ import annotations

import hashlib
import re
import shutil
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
STATIC = ROOT / "nimbus_sweep" / "web" / "static"
CSS = STATIC / "app.css"
# Libraries the pages use, as their packages ship them: file, package and its place there.
SCRIPTS = [("idiomorph.js", "idiomorph", "dist/idiomorph.esm.js")]
FONTS = [("barlow-semi-condensed", weight) for weight in (400, 500, 600)] + [("source-code-pro", 400)]


def inputs() -> list[Path]:
    """Everything the built styles depend on."""
    web = ROOT / "nimbus_sweep" / "web"
    return sorted(
        [*(ROOT / "styles").glob("*.css"), *web.rglob("*.html"), *(STATIC / "js").rglob("*.js"), ROOT / "package-lock.json", Path(__file__)]
    )


def stamp() -> str:
    """SHA-256 of the inputs."""
    digest = hashlib.sha256()
    for path in inputs():
        digest.update(path.relative_to(ROOT).as_posix().encode() + b"\0" + path.read_bytes())
    return digest.hexdigest()


def stale() -> bool:
    """Whether the built styles were made of other inputs, or a font or a script is missing."""
    first = CSS.read_text().split("\n", 1)[0] if CSS.exists() else ""
    shipped = [
        *(STATIC / "fonts" / f"{name}-{weight}.woff2" for name, weight in FONTS),
        *(STATIC / "vendor" / name for name, *_ in SCRIPTS),
    ]
    return stamp() not in first or not all(path.exists() for path in shipped)


def build() -> None:
    """Build."""
    (STATIC / "fonts").mkdir(parents=True, exist_ok=True)
    for name, weight in FONTS:
        package = ROOT / "node_modules" / "@fontsource" / name
        shutil.copyfile(package / "files" / f"{name}-latin-{weight}-normal.woff2", STATIC / "fonts" / f"{name}-{weight}.woff2")
        # The licence asks for its text and the copyright notice; the addresses in brackets are in the font files themselves.
        licence = re.sub(r" \(https?://[^)]*\)", "", (package / "LICENSE").read_text())
        (STATIC / "fonts" / f"{name}-licence.txt").write_text(licence)
    (STATIC / "vendor").mkdir(exist_ok=True)
    for name, package, place in SCRIPTS:
        # Without the addresses in its comments: nothing here points outside.
        script = (ROOT / "node_modules" / package / place).read_text()
        (STATIC / "vendor" / name).write_text(re.sub(r"(?m)^\s*\*.*https?://.*\n", "", script))
        shutil.copyfile(ROOT / "node_modules" / package / "LICENSE", STATIC / "vendor" / f"{Path(name).stem}-licence.txt")
    command = [
        str(ROOT / "node_modules" / ".bin" / "tailwindcss"),
        "--input",
        str(ROOT / "styles" / "app.css"),
        "--output",
        str(CSS),
        "--minify",
    ]
    subprocess.run(command, check=True, cwd=ROOT)
    CSS.write_text(f"/* Built by `make assets` from {stamp()}; edit styles/app.css. */\n{CSS.read_text()}")


if __name__ == "__main__":
    if "--check" in sys.argv:
        if stale():
            sys.exit("nimbus_sweep/web/static/app.css is stale: run `make assets` and commit what it builds.")
    else:
        build()
