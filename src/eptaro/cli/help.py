"""Help that begins with the question: options under headings, the rare ones on request."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import click

from eptaro.option import SYNONYMS

QUESTION = "The question"
GROUPS = "Groups and narrowing"
CALENDAR = "Calendar"
KNOWN = "As-of and coverage"
DATES = "Reading dates"
FILES = "Reading files and numbers"
ENGINE = "Engine"
OUTPUT = "Output"
PICTURES = "Pictures and proof"
OTHER = "Other"
_HEADINGS = (QUESTION, GROUPS, CALENDAR, KNOWN, OUTPUT, PICTURES, DATES, FILES, ENGINE, OTHER)
_ON_REQUEST = (DATES, FILES, ENGINE)
_ALL = "eptaro.help_all"  # in the context: whether every option is shown
_CLOSE = 0.84  # of the letters of an option that is suggested
_MEANT = {
    f"--{tried}".replace("_", "-"): f"--{own}".replace("_", "-") for tried, own in SYNONYMS.items()
}
_OF_SPANS = {  # of commands that take the ends of a span
    **dict.fromkeys(("--start", "--begin", "--first"), "--from"),
    **dict.fromkeys(("--to", "--until", "--end", "--last"), "--through"),
}
DEMO = "--config eptaro-demo/eptaro.toml"  # the data of examples
BOOKINGS = "eptaro-demo/bookings.csv --date sailed_on --measure 'revenue=sum(fare)'"


class HeadedOption(click.Option):
    """An option that is under a heading of the help, a rare one only where all are shown."""

    def __init__(self, *args: Any, heading: str, rare: bool = False, **attributes: Any) -> None:
        super().__init__(*args, **attributes)
        self.heading, self.rare = heading, rare


def option(
    heading: str, *names: str, rare: bool = False, **attributes: Any
) -> Callable[[Any], Any]:
    """Return a decorator that adds an option under a heading."""
    return click.option(*names, cls=HeadedOption, heading=heading, rare=rare, **attributes)


def _show_all(context: click.Context, _: click.Parameter, flag: bool) -> None:
    if flag:
        context.meta[_ALL] = True
        click.echo(context.get_help(), color=context.color)
        context.exit()


class HeadedCommand(click.Command):
    """A command whose help shows its options under headings, and examples with their purpose."""

    def __init__(
        self, *args: Any, examples: tuple[tuple[str, str], ...] = (), **attributes: Any
    ) -> None:
        super().__init__(*args, **attributes)
        self.examples = examples
        if any(map(_is_on_request, self.params)):
            self.params.append(
                HeadedOption(
                    ["--help-all"],
                    heading=OTHER,
                    is_flag=True,
                    is_eager=True,
                    expose_value=False,
                    callback=_show_all,
                    help="Show every option and exit.",
                )
            )

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """Read the options; one that is not known is met by the one that does what it says."""
        try:
            return super().parse_args(ctx, args)
        except click.NoSuchOption as error:
            name = error.option_name
            tried = [names.get(name) for names in (_OF_SPANS, _MEANT)]
            options = [(param, own) for own in tried for param in self.params if own in param.opts]
            if not options or not isinstance(options[0][0], click.Option):
                names = [flag for param in self.params for flag in param.opts]
                from difflib import get_close_matches

                close = get_close_matches(name, names, 3, _CLOSE)
                raise click.NoSuchOption(name, possibilities=close or None, ctx=ctx) from None
            meant, own = options[0]
            message = f"No such option {name!r}. Use {own}: {meant.help}"
            raise click.NoSuchOption(name, message, ctx=ctx) from None

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the options under their headings."""
        whole = bool(ctx.meta.get(_ALL))
        sections: dict[str, list[tuple[str, str]]] = {heading: [] for heading in _HEADINGS}
        more = dict[str, None]()
        for param in self.get_params(ctx):
            if not isinstance(param, click.Option):
                continue  # arguments are in the line of usage
            record = param.get_help_record(ctx)
            heading = param.heading if isinstance(param, HeadedOption) else OTHER
            if record is not None and (whole or not _is_on_request(param)):
                sections[heading].append(record)
            elif record is not None:
                more[heading] = None
        for heading, records in sections.items():
            if records:
                with formatter.section(heading):
                    formatter.write_dl(records)
        if more:
            names = ", ".join(f"{heading[:1].lower()}{heading[1:]}" for heading in more)
            formatter.write_paragraph()
            formatter.write_text(f"More options ({names}):")
            formatter.write(f"{'':{formatter.current_indent + 2}}{ctx.command_path} --help-all\n")

    def format_epilog(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the examples, each below its purpose, on a line that can be copied."""
        if self.examples:
            with formatter.section("Examples"):
                for purpose, words in self.examples:
                    formatter.write_text(f"{purpose}:")
                    formatter.write(f"{'':{formatter.current_indent + 2}}eptaro {words}\n")


def _is_on_request(param: click.Parameter) -> bool:
    return isinstance(param, HeadedOption) and (param.rare or param.heading in _ON_REQUEST)
