"""The tests under every supported version of Python that is at hand: `nox`."""

import nox

nox.options.error_on_missing_interpreters = False
VERSIONS = ["3.11", "3.12", "3.13", "3.14"]


@nox.session(python=VERSIONS)
def tests(session: nox.Session) -> None:
    """Run all tests, or those of a folder: `nox -- tests/core`."""
    session.run_install("pip", "install", "--quiet", "--upgrade", "pip>=25.1")
    session.run_install(
        "pip", "install", "--quiet", "--editable", ".[all,postgresql]", "--group", "test"
    )
    session.run("python", "-W", "error", "tests/parallel.py", *session.posargs)
