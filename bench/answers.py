"""Answers to many random questions and to the demo's commands, saved and compared.

Run as `python bench/answers.py save FILE [count]` before a change that must change no answer,
and as `python bench/answers.py compare FILE` after it. Saved is all that a user sees: values,
kinds, formats, descriptions, footers, messages of errors, traces, what commands print, and
the fingerprints of the pictures and pages that they draw.
"""

from __future__ import annotations

import datetime as dt
import hashlib
import os
import pickle
import random
import re
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from proofs import ATTRIBUTES, LEVELS, MEASURES, question, typed, values
from soak import calendar

import eptaro as ep

DAY = dt.timedelta(1)
MORE = ("fine=sum(x)", "each=sum(x)/count()", "best=max(sum(y) per day)", "n2=count()")
FORMATS = (ep.Format("€", 1), ep.Format(places=0), ep.Format(percent=True, places=1))
BOOKINGS = "demo/bookings.csv --date sailed_on --measure revenue=sum(fare)"
COMMANDS = (
    *(f"recap {BOOKINGS} --per month --rows 30", f"recap {BOOKINGS} --per quarter --by route"),
    *(f"recap {BOOKINGS} --per month --by route --wide --plot wide.png", "recap --per hour"),
    f"recap {BOOKINGS} --per month --subtotals year --totals --shares --ranks --prove",
    f"recap {BOOKINGS} --per weekday --by route --plot weekday.png --format csv",
    f"recap {BOOKINGS} --per quarter --by route --top 2 --format json --prove",
    f"recap {BOOKINGS} --per month --plot month.svg --out month.parquet",
    f"accumulate {BOOKINGS} --within quarter --as-of 2025-08-20 --rows 20 --plot running.png",
    f"accumulate {BOOKINGS} --card --as-of 2025-08-20",
    f"trail {BOOKINGS} --back '6 months' --every month --plot trail.png --prove",
    f"trail {BOOKINGS} --back '20 entries' --every month --by route --rows 12",
    f"compare {BOOKINGS} --per quarter --to-date --by route --plot change.png --details --prove",
    f"compare {BOOKINGS} --per month --back '1 month' --back '1 year' --rows 9 --prove",
    f"compare {BOOKINGS} --per quarter --to-date --every day --plot days.png --rows 9",
    f"compare {BOOKINGS} --per quarter --effects weekdays --format json --plot steps.png",
    f"rhythm {BOOKINGS} --per weekday --across month --plot heat.png --prove",
    f"rhythm {BOOKINGS} --per weekday --across month --wide",
    f"rhythm {BOOKINGS} --spread fare --per quarter --plot boxes.png",
    f"rhythm {BOOKINGS} --histogram fare --plot histogram.png",
    f"trace compare {BOOKINGS} --per quarter --to-date --row 1 --column revenue_change",
    f"trace recap {BOOKINGS} --per weekday --row 2 --column revenue",
    *("dimension --config demo/eptaro.toml --from 2022-04-01 --through 2027-03-31 --columns all",),
    "dimension --from 2025-01-01 --through 2025-12-31 --describe --columns all",
    "compare --config demo/companies.toml --per quarter --to-date --by company",
    "recap --config demo/companies.toml --per year --format json",
    *("recap --config demo/eptaro.toml --per month --rows 30", "inspect demo/bookings.csv"),
    "inspect demo/consignments.csv --date shipped --by shipper",
    *("calendar show --config demo/eptaro.toml --calendar cafe --year 2025", "calendar check"),
    "calendar check --config demo/eptaro.toml --calendar cafe --years 2023..2025",
    "report --config demo/eptaro.toml --out ferries.html --as-of 2025-08-20",
    *("fold --config demo/eptaro.toml --out book.parquet", "recap book.parquet --per year"),
    *(f"{name} --help" for name in ("recap", "compare", "trail", "accumulate", "rhythm", "trace")),
    *("recap nowhere.csv --per month --measure n=count()", "recap --per moon --config no.toml"),
    f"compare {BOOKINGS} --per quarter --back '1 moon'",
    "annotate demo/bookings.csv --date sailed_on --add day_name --add hour --out added.csv",
)


def book(rng: random.Random) -> ep.Daybook:
    """Return a book of random transactions, measures, formats and calendars."""
    start = dt.datetime(rng.randint(1960, 2030), rng.randint(1, 12), rng.randint(1, 28))
    reach, count = rng.choice([5, 60, 400, 1100]), rng.choice([2, 20, 200, 900])
    at = [start + DAY * rng.randrange(reach) for _ in range(count)]
    if timed := rng.random() < 0.3:
        at = [m + dt.timedelta(seconds=rng.randrange(86_400)) for m in at]
    table = typed({
        "at": at if timed else [moment.date() for moment in at],
        "x": values(rng, count), "y": values(rng, count),
        "g": [rng.choice(["a", "b", "c", None]) for _ in at], "h": [rng.choice("pq") for _ in at],
    })  # fmt: skip
    measures = [*rng.sample(MEASURES, rng.randint(1, 4)), *rng.sample(MORE, 1)]
    names = [text.partition("=")[0] for text in measures]
    own = calendar(rng)
    kept: Any = own
    if rng.random() < 0.1:
        kept = ep.OwnCalendars("g", {"a": own, "b": ep.MonthCalendar("b", year_starts="04-01")},
                               ep.MonthCalendar("other"))  # fmt: skip
    work = ep.Workdays(holidays=ep.HolidaySet([ep.Holiday((start + DAY * 9).date(), "Landfall")]))
    return ep.Daybook(
        table, date="at", by=rng.choice([["g"], ["g", "h"]]), calendar=kept, measures=measures,
        formats={name: rng.choice(FORMATS) for name in names if rng.random() < 0.3},
        workdays=rng.choice([None, work]),
        dates=ep.DateRules(bad_dates=rng.choice(["raise", "reject"])),
    )  # fmt: skip


def asked(rng: random.Random, of: ep.Daybook) -> tuple[str, tuple[Any, ...], dict[str, Any]]:
    """Return a verb with random arguments, of all that it takes."""
    verb, arguments, options = question(rng, of)
    if verb == "recap" and rng.random() < 0.6:
        more = {
            "shares": rng.random() < 0.4, "ranks": rng.random() < 0.4, "wide": rng.random() < 0.3,
            "every": rng.choice([None, None, "entry"]),
        }  # fmt: skip
        options |= {name: value for name, value in more.items() if value}
        if rng.random() < 0.1:
            arguments = (f"{rng.randint(1, 5)} months from {of.coverage.first}",)
    if verb == "trail" and rng.random() < 0.5:
        options |= rng.choice([
            {"incomplete": "blank"}, {"ahead": "3 days"}, {"ahead": "1 month"},
            {"weights": [1, 2, 3]}, {"centred": True},
        ])  # fmt: skip
        if "weights" in options:
            arguments = ("3 days",)
    if verb == "accumulate" and rng.random() < 0.3:
        label = of.latest(arguments[0]).label if arguments[0] in of.calendar.levels else "x"
        options |= {"goals": {label: 100}, "pace": rng.choice(["straight", "prior year"])}
    if verb == "compare" and rng.random() < 0.6:
        options |= rng.choice([
            {"details": True}, {"effects": "weekdays"}, {"effects": "workdays", "details": True},
            {"back": ["1 year", "1 month"]}, {"trailing": "3 months"}, {"every": "day"},
            {"goals": {of.latest("year").label: 50}}, {"sort": f"-{of.measures[0].name}_change"},
        ])  # fmt: skip
    if verb == "rhythm" and rng.random() < 0.3:
        options |= {"wide": True}
    if rng.random() < 0.08:
        verb = rng.choice(["spread", "histogram"])
        arguments = ("x", rng.choice([None, *ATTRIBUTES, *LEVELS]))
        options = {name: options.get(name) for name in ("by", "only", "as_of")}
    return verb, arguments, options


def answers(count: int) -> Iterator[tuple[str, Any]]:
    """Yield random questions in words, with all that is answered."""
    seed = 0
    while count > 0:
        rng = random.Random(f"answers {seed}")
        seed += 1
        try:
            of = book(rng)
        except Exception as error:
            yield f"{seed} book", _error(error)
            continue
        for number in range(6):
            rng = random.Random(f"question {seed} {number}")
            try:
                verb, arguments, options = asked(rng, of)
            except ep.EptaroError:
                continue
            said = f"{seed} {verb} {arguments} {options} of {[*map(str, of.measures)]}"
            try:
                table = getattr(of, verb)(*arguments, **options)
                found = _table(table)
            except Exception as error:
                yield said, _error(error)
                continue
            yield said, {**found, **_proof(rng, of, table)}
        count -= 6


def _table(table: ep.Table) -> dict[str, Any]:
    return {
        "columns": {c.name: (c.kind, c.scale, c.unit, c.description, str(c.format), c.to_list())
                    for c in table.columns},
        "footer": table.footer, "shown": repr(table), "meta": dict(table.meta),
    }  # fmt: skip


def _proof(rng: random.Random, of: ep.Daybook, table: ep.Table) -> dict[str, Any]:
    found: dict[str, Any] = {}
    numbers = [c.name for c in table.columns if c.kind in ("integer", "decimal", "float")]
    for _ in range(4):
        row, name = rng.randrange(max(len(table), 1)), rng.choice([*numbers, table.names[-1]])
        try:
            trace = table.trace(row, name)
            pairs = trace.pairs and _table(trace.pairs)
            found[f"trace {row} {name}"] = (str(trace), trace.result, str(trace.plain), pairs)
        except Exception as error:
            found[f"trace {row} {name}"] = _error(error)
    try:
        found["prove"] = of.prove(table, sample=4)
    except Exception as error:
        found["prove"] = _error(error)
    return found


def _error(error: BaseException) -> str:
    return f"{type(error).__name__}: {error}"


def _usual(answer: Any) -> Any:
    """Return an answer without what may differ: the names that a refused trace lists."""
    if isinstance(answer, dict):
        return {key: _usual(value) for key, value in answer.items()}
    if isinstance(answer, str):
        return re.sub(".*(is no measure; trace|shows no measure that|has no transactions behind).*|"
                      ".*unknown column of values.*", "cannot be traced", answer)  # fmt: skip
    return answer


def commands() -> Iterator[tuple[str, Any]]:
    """Yield the demo's commands with what they print and write."""
    import shlex

    with tempfile.TemporaryDirectory() as folder:
        _run(["demo", "--folder", "demo"], folder)
        for command in COMMANDS:
            yield f"eptaro {command}", _run(shlex.split(command), folder)
        for path in sorted(Path(folder).iterdir()):
            if path.suffix in (".png", ".html", ".csv"):
                yield f"file {path.name}", hashlib.sha256(path.read_bytes()).hexdigest()


def _run(words: list[str], folder: str) -> tuple[int, str, str]:
    done = subprocess.run(
        [sys.executable, "-m", "eptaro", *words], cwd=folder, capture_output=True, text=True,
        check=False, env={**os.environ, "COLUMNS": "120", "SOURCE_DATE_EPOCH": "0"},
    )  # fmt: skip
    return done.returncode, done.stdout, done.stderr


def main(what: str, path: Path, count: int) -> int:
    """Save all answers, or compare them with those saved; return how many differ."""
    if what == "save":
        found = [*answers(count), *commands()]
        path.write_bytes(pickle.dumps((count, found)))
        print(f"{len(found):,} answers saved")
        return 0
    total, before = pickle.loads(path.read_bytes())
    differ = 0
    after = [*answers(total), *commands()]
    for (said, answer), (asked_again, found) in zip(before, after, strict=True):
        old, new = _usual(answer), _usual(found)
        if (said, repr(old)) != (asked_again, repr(new)):
            differ += 1
            print(f"differs: {said}\n{_told(old, new)}", flush=True)
    print(f"{len(before):,} answers, {differ:,} differ")
    return differ


def _told(old: Any, new: Any) -> str:
    if isinstance(old, dict) and isinstance(new, dict):
        parts = [f"  {k}: {_told(old.get(k), new.get(k))}" for k in {**old, **new}
                 if repr(old.get(k)) != repr(new.get(k))]  # fmt: skip
        return "\n".join(parts)
    return f"{old!r:.600}\n    now {new!r:.600}"


if __name__ == "__main__":
    count = int(sys.argv[3]) if len(sys.argv) > 3 else 2400
    sys.exit(bool(main(sys.argv[1], Path(sys.argv[2]), count)))
