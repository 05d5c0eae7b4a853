"""The tests under every supported version of Python that is at hand, and with the oldest packages.

Run as `nox`, or one session: `nox -s lowest`.
"""

import re
import tomllib
from pathlib import Path

import nox

nox.options.error_on_missing_interpreters = False
VERSIONS = ["3.11", "3.12", "3.13", "3.14"]


def floors() -> list[str]:
    """Return the lowest version of every package that `pyproject.toml` allows."""
    project = tomllib.loads(Path("pyproject.toml").read_text(encoding="utf-8"))["project"]
    lists = [project["dependencies"], *project["optional-dependencies"].values()]
    found = (re.match(r"([\w-]+)(?:\[[\w,]+\])?>=([\d.]+)", one) for many in lists for one in many)
    return sorted({f"{one[1]}=={one[2]}" for one in found if one and one[1] != "tzdata"})


@nox.session(python=VERSIONS)
def tests(session: nox.Session) -> None:
    """Run all tests, or those of a folder: `nox -- tests/core`."""
    session.run_install("pip", "install", "--quiet", "--upgrade", "pip>=25.1")
    session.run_install(
        "pip", "install", "--quiet", "--editable", ".[all,postgresql]", "--group", "test"
    )
    session.run("python", "-W", "error", "tests/parallel.py", *session.posargs)


@nox.session(python=VERSIONS[0])
def lowest(session: nox.Session) -> None:
    """Run the tests with the lowest version of every package."""
    path = Path(session.create_tmp()) / "lowest.txt"
    path.write_text("\n".join(floors()), encoding="utf-8")
    session.run_install("pip", "install", "--quiet", "--upgrade", "pip>=25.1")
    session.run_install(
        *("pip", "install", "--quiet", "--editable", ".[all,postgresql]", "--group", "test"),
        *("--constraint", str(path)),
    )
    session.run("python", "tests/parallel.py", *session.posargs)
