"""docs/COMMANDS.md, generated from the commands: `python -m lean_tumbler.cli.reference`."""

import argparse
import sys
from collections.abc import Iterator

from lean_tumbler.cli.main import build_parser
from lean_tumbler.jobs import SUMMARIES

_HEAD = """\
# Commands

Every command with its options. This page is generated from the code:
`python -m lean_tumbler.cli.reference > docs/COMMANDS.md`.

## Exit codes

| code | meaning |
|---|---|
| 0 | done, nothing wrong |
| 1 | the answer is no: a password does not match, a finding at or above `--fail-on`, \
nothing fits, a cohort is not proven |
| 2 | wrong usage or policy |
| 3 | a source or store could not be read or written |
| 4 | stopped part-way; run again to continue |

JSON goes alone to standard output, messages and progress to standard error. Passwords come from
standard input or a prompt without echo, never from arguments; one line end after them is dropped.

## Environment

| variable | meaning |
|---|---|
| `LEAN_TUMBLER_DATABASE_USER`, or `…_USER_FILE` | the database's user, before the one in a URL |
| `LEAN_TUMBLER_DATABASE_PASSWORD`, or `…_PASSWORD_FILE` | its password; the file is for its owner |
"""


def commands_page() -> str:
    """Give the page."""
    return _HEAD + "".join(part for name in SUMMARIES for part in _command(name))


def _command(name: str) -> Iterator[str]:
    whole = build_parser([name])
    parser = _children(whole)[name]
    yield f"\n## {name}\n\n{parser.description}\n"
    children = _children(parser)
    if not children:
        yield from _options(parser)
    for child, own in children.items():
        yield f"\n### {name} {child}\n\n{own.description or ''}\n"
        yield from _options(own)
    examples = (parser.epilog or "").removeprefix("example:\n").rstrip()
    yield f"\n```\n{examples}\n```\n"


def _children(parser: argparse.ArgumentParser) -> dict[str, argparse.ArgumentParser]:
    found: dict[str, argparse.ArgumentParser] = {}
    for action in parser._actions:  # noqa: SLF001 - argparse tells its options in no other way
        if isinstance(action, argparse._SubParsersAction):  # noqa: SLF001 - as above
            found.update(action.choices)
    return found


def _options(parser: argparse.ArgumentParser) -> Iterator[str]:
    yield "\n| option | meaning |\n|---|---|\n"
    for action in parser._actions:  # noqa: SLF001 - as above
        if action.help != argparse.SUPPRESS and not isinstance(action, argparse._HelpAction):  # noqa: SLF001
            yield f"| `{_written(action)}` | {_meaning(action)} |\n"


def _written(action: argparse.Action) -> str:
    """Write an option with what it takes, as its help does."""
    taken = action.metavar or (
        "{" + ",".join(map(str, action.choices)) + "}" if action.choices else action.dest.upper()
    )
    name = ", ".join(action.option_strings)
    if not name:
        return str(taken).replace("|", "\\|") + (" …" if action.nargs in {"+", "*"} else "")
    return name if action.nargs == 0 else f"{name} {taken}".replace("|", "\\|")


def _meaning(action: argparse.Action) -> str:
    text = (action.help or "").replace("%%", "%").replace("|", "\\|")
    return text + ("; required" if action.required and action.option_strings else "")


if __name__ == "__main__":
    sys.stdout.write(commands_page())
