"""docs/COMMANDS.md: every command with its options, from the parsers."""

import argparse
from collections.abc import Iterator

from lean_tumbler.cli.commands import SUMMARIES
from lean_tumbler.cli.main import EXIT_CODES, build_parser
from lean_tumbler.cli.options import children_of
from reference.tables import GENERATED, table

_HEAD = """\
# Commands

Every command with its options. {GENERATED}

## Exit codes

{exit_codes}
“The answer is no”: a password does not match, nothing fits, or a cohort is not proven.

JSON goes alone to standard output, messages and progress to standard error. Passwords come from
standard input or a prompt without echo, never from arguments; one line end after them is dropped.

## Environment

{variables}"""
VARIABLES = (
    ("`LEAN_TUMBLER_DATABASE_USER`, or `…_USER_FILE`",
     "the database's user, before the one in a URL"),
    ("`LEAN_TUMBLER_DATABASE_PASSWORD`, or `…_PASSWORD_FILE`",
     "its password; the file is for its owner"),
    ("`LEAN_TUMBLER_REDIS_PASSWORD`",
     "the password of the Redis server that `serve --failure-store` names"),
)  # fmt: skip


def commands_page() -> str:
    """Give the page."""
    codes = table(("code", "meaning"), ((str(code), said) for code, said in EXIT_CODES.items()))
    variables = table(("variable", "meaning"), VARIABLES)
    head = _HEAD.format(GENERATED=GENERATED, exit_codes=codes, variables=variables)
    return head + "".join(part for name in SUMMARIES for part in _command(name))


def _command(name: str) -> Iterator[str]:
    whole = build_parser([name])
    parser = children_of(whole)[name]
    yield f"\n## {name}\n\n{parser.description}\n"
    children = children_of(parser)
    if not children:
        yield from _options(parser)
    for child, own in children.items():
        yield f"\n### {name} {child}\n\n{own.description or ''}\n"
        yield from _options(own)
    examples = (parser.epilog or "").removeprefix("example:\n").rstrip()
    yield f"\n```\n{examples}\n```\n"


def _options(parser: argparse.ArgumentParser) -> Iterator[str]:
    told = [(f"`{written(action)}`", meaning(action)) for action in options_of(parser)]
    yield "\n" + table(("option", "meaning"), told)


def options_of(parser: argparse.ArgumentParser) -> list[argparse.Action]:
    """Give the options and arguments of a command, but for its help."""
    return [
        action
        for action in parser._actions  # noqa: SLF001 - argparse tells its options in no other way
        if action.help != argparse.SUPPRESS and not isinstance(action, argparse._HelpAction)  # noqa: SLF001
    ]


def written(action: argparse.Action) -> str:
    """Write an option with what it takes, as its help does."""
    taken = action.metavar or (
        "{" + ",".join(map(str, action.choices)) + "}" if action.choices else action.dest.upper()
    )
    name = ", ".join(action.option_strings)
    if not name:
        return str(taken) + (" …" if action.nargs in {"+", "*"} else "")
    if action.nargs == 0:
        return name
    return f"{name} [{taken}]" if action.nargs == "?" else f"{name} {taken}"


def meaning(action: argparse.Action) -> str:
    """Say what an option does."""
    text = (action.help or "").replace("%%", "%")
    return text + ("; required" if action.required and action.option_strings else "")
