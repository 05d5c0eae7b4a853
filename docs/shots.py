"""The pictures in docs/screenshots: each is made by its commands, and keeps what they printed.

A picture of a terminal needs Xvfb, xterm and ImageMagick's import, one of a page Chromium; run
`python docs/shots.py`, or with the names of some. A test compares the text that a picture keeps
with what its commands print now.
"""

from __future__ import annotations

import contextlib
import io
import os
import re
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from made import done

FOLDER = Path(__file__).parent / "screenshots"
CONFIG = "--config eptaro-demo/eptaro.toml"
COMPANIES = "--config eptaro-demo/companies.toml"
FILE = "eptaro-demo/bookings.csv --date sailed_on --measure 'revenue=sum(fare)'"
FISCAL = f"{FILE} --year-starts 04-01 --prefix FY"
TERMINALS = {
    "demo": ["demo"],
    "inspect": ["inspect eptaro-demo/stores.csv"],
    "dimension": [
        "dimension --from 2025-03-30 --through 2025-04-02 --config eptaro-demo/eptaro.toml "
        "--calendar fiscal --columns all --describe"
    ],
    "calendar": [f"calendar show {CONFIG} --calendar cafe --year 2024"],
    "recap": [
        f"recap {CONFIG} --per quarter --only FY2025..FY2026 --prove",
        f"recap {FISCAL} --per year --by route --shares --only FY2025",
    ],
    "accumulate": [
        f"accumulate {CONFIG} --card",
        f"accumulate {CONFIG} --within month --by route --rows 12",
    ],
    "trail": [f"trail {CONFIG} --back '6 months' --every month --only 2024-04-01..2025-08-20"],
    "compare": [
        f"compare {FISCAL} --per quarter --to-date --by route",
        f"compare {CONFIG} --per quarter --only FY2025..FY2026",
    ],
    "effects": [f"compare {FISCAL} --per quarter --only FY2025..FY2026 --effects workdays"],
    "tables": [
        "compare --config eptaro-demo/voyages.toml --per quarter --to-date --by route "
        "--measure load --measure fuel_per_passenger"
    ],
    "companies": [f"compare {COMPANIES} --per quarter --to-date --by company"],
    "trace": [
        f"trace compare {CONFIG} --per quarter --to-date --by route --row 2 --column revenue_change"
    ],
    "help": ["compare --help"],
}
PICTURES = {
    "changes": f"compare {CONFIG} --per quarter --to-date --by route",
    "rhythm": f"rhythm {CONFIG} --per weekday --across hour",
    "year-to-date": f"accumulate {CONFIG} --within year",
    "card": f"accumulate {CONFIG} --card",
    "calendar-cafe": f"calendar show {CONFIG} --calendar cafe --year 2025",
}
PAGES = {"report": f"report {CONFIG} --out ferries.html"}
WIDE, HIGH = 1280, 800


def printed(name: str) -> str:
    """Return what the commands of a picture print, each after its own line, and a page's words."""
    if name in TERMINALS:
        return "\n".join(f"$ eptaro {words}\n{done(words)}" for words in TERMINALS[name])
    if name in PICTURES:
        return done(f"{PICTURES[name]} --plot drawn.png")
    told = done(PAGES[name])
    page = Path("ferries.html").read_text(encoding="utf-8")
    page = re.sub(r"<(svg|script|style)\b.*?</\1>", " ", page, flags=re.DOTALL)
    return told + " ".join(re.sub(r"<[^>]+>", " ", page).split())


def made(name: str) -> bytes:
    """Return the picture of a name as PNG."""
    if name in PICTURES:
        return Path("drawn.png").read_bytes()
    target = Path("shot.png").resolve()
    if name in PAGES:
        browser = shutil.which("chromium") or "google-chrome"
        options = ["--headless", "--no-sandbox", "--hide-scrollbars", "--window-size=1280,1000"]
        page = Path("ferries.html").resolve().as_uri()
        subprocess.run([browser, *options, f"--screenshot={target}", page], check=True)
        return target.read_bytes()
    said = [f"eptaro {words}" for words in TERMINALS[name]]
    lines = [f"echo {shlex.quote('$ ' + words)}; {words}; echo" for words in said]
    Path("shot.sh").write_text("\n".join(["tput civis", *lines, "touch done", "sleep 60"]))
    Path("done").unlink(missing_ok=True)
    number = 90 + os.getpid() % 900
    screen = subprocess.Popen(["Xvfb", f":{number}", "-screen", "0", f"{WIDE}x8000x24"])
    path = f"{Path(sys.executable).parent}:{os.environ['PATH']}"
    shown = os.environ | {"DISPLAY": f":{number}", "PATH": path}
    time.sleep(1)
    look = ["-fa", "DejaVu Sans Mono", "-fs", "9", "-geometry", "157x500+0+0"]
    look += ["-b", "12", "-bw", "0", "-bg", "#fbfaf7", "-fg", "#22262b"]
    look += ["-xrm", "XTerm*color3: #8a5a00", "-xrm", "XTerm*color1: #a8480f"]
    terminal = subprocess.Popen(["xterm", *look, "-e", "bash", "shot.sh"], env=shown)
    try:
        while not Path("done").exists():
            time.sleep(0.2)
        time.sleep(1)
        crop = ["-window", "root", "-crop", f"{WIDE}x{HIGH}+0+0", "+repage", str(target)]
        subprocess.run(["import", *crop], env=shown, check=True)
    finally:
        terminal.kill()
        screen.kill()
    return target.read_bytes()


def main(names: list[str]) -> None:
    """Make the pictures of some names, or all."""
    from PIL import Image, PngImagePlugin

    with tempfile.TemporaryDirectory() as folder, contextlib.chdir(folder):
        done("demo")
        for name in names or [*TERMINALS, *PICTURES, *PAGES]:
            kept = PngImagePlugin.PngInfo()
            kept.add_itxt("printed", printed(name), zip=True)
            image = Image.open(io.BytesIO(made(name))).convert("RGB").quantize(64)
            image.save(FOLDER / f"{name}.png", pnginfo=kept, optimize=True)


if __name__ == "__main__":
    os.environ.setdefault("MPLBACKEND", "agg")
    main(sys.argv[1:])
