"""Runs every bench and keeps what they print in docs/bench.md and bench/runs/ (`make bench`).

`python bench/all.py verbs.py page.py` runs these alone and keeps the other sections.

`python bench/all.py quick` leaves out 110 million rows, which take about 8 GiB of memory, 20 GB of
disk and the better part of an hour.
"""

from __future__ import annotations

import os
import platform
import subprocess
import sys
from pathlib import Path

import apart
import history

FOLDER = Path(__file__).parent
PAGE = FOLDER.parent / "docs" / "bench.md"
HEAD = """<!-- made by bench/all.py -->
# Timings

Measured on {cores} cores ({machine}, Python {python}), {sizes}
million rows. Seconds are the least of up to three runs, each case in a process of its own; beside
them is a reference measured in the same run: one plain NumPy pass over the same bytes, or
pyarrow's bare read of the same file. Machines differ; ratios differ less. *ns per further row* is
the slope between the two largest sizes.
"""
SECTIONS = {
    "Starting": ("start.py", ""),
    "The shapes that rows come in": (
        "shapes.py",
        """
Eptaro is compared with pandas and with polars and its streaming engine, each used in the best plain
code that we know (`bench/shapes.py`) and checked to give the same answer; `pandas ×` is how many
times as long as Eptaro it takes, so below 1 it is quicker. A read pass reads every byte once; of
files, it is pyarrow's bare read. Eptaro answers with a row for each group and period, also where
nothing occurred; the others with what occurred alone: of a million groups that is a tenth of the
rows.""",
    ),
    "The fold and the verbs, columns in memory": (
        "verbs.py",
        """
What goes by cells alone takes four to five read passes at 11 million rows; below, what a question
costs by itself shows. Box figures and histograms count every value, traces work in plain Python, a
row per transaction gathers as many values, a rolling median ranks them all, and a page draws nine
sections.""",
    ),
    "Verbs on a folded book, beside frames of daily totals": (
        "folded.py",
        """
50 groups on 3,653 days, the frames' totals in the shape that suits them best. The book answers
with every day and group, the days of each window beside it when they are asked for.""",
    ),
    "Readers": (
        "readers.py",
        """
Every file but a workbook is read block by block; an Arrow file is mapped, so that its own pages
count as memory while there is room for them. A worksheet ends at 1,048,576 rows. *A million groups*
folds by a column of a million values: nearly a cell per row, and every cell is kept.""",
    ),
    "Engines": (
        "engines.py",
        """
Dask's seconds leave out the start of the cluster; each worker has one thread. `sql` is as fast as
the database groups.""",
    ),
    "Books in folders": (
        "folders.py",
        """
Two million groups; of nearly every row there is a cell of its own. A night's rows come in by the
command line, with all that starting it takes. Dask's seconds leave out the start of the cluster,
and its peak is that of the asking process.""",
    ),
    "The page": ("page.py", ""),
    "The dimension, and attributes of rows": ("dimension.py", ""),
}


def main(words: list[str]) -> None:
    """Run the benches one after the other, print and keep what they say."""
    sizes = apart.SIZES[:-1] if "quick" in words else apart.SIZES
    chosen = [word for word in words if word != "quick"]
    parts = [HEAD.format(
        cores=os.cpu_count(), machine=platform.machine(), python=platform.python_version(),
        sizes=", ".join(apart.short(rows).removesuffix(" M") for rows in sizes),
    )]  # fmt: skip
    printed = {}
    for title, (script, said) in SECTIONS.items():
        if chosen and script not in chosen:
            parts.append(_kept(title))
            continue
        print(f"## {title}", flush=True)
        given = [] if script == "start.py" else [str(rows) for rows in sizes]
        done = subprocess.run(
            [sys.executable, str(FOLDER / script), *given],
            capture_output=True, text=True, check=True,
        )  # fmt: skip
        print(done.stdout, flush=True)
        printed[title] = done.stdout
        beneath = f"\n{said.strip()}\n" if said else ""
        parts.append(f"## {title}\n\n{done.stdout.strip()}\n{beneath}")
        kept = [_kept(title) for title in [*SECTIONS][len(parts) - 1 :]] if PAGE.exists() else []
        PAGE.write_text("\n".join([*parts, *kept]), encoding="utf-8")
    print(f"written to {PAGE} and {history.keep(printed)}")


def _kept(title: str) -> str:
    """Return a section as it stands on the page."""
    _, _, rest = PAGE.read_text(encoding="utf-8").partition(f"## {title}\n")
    return f"## {title}\n{rest.partition(chr(10) + '## ')[0].rstrip()}\n"


if __name__ == "__main__":
    main(sys.argv[1:])
