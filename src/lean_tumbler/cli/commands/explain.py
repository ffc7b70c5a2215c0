"""`explain`: one stored value, read aloud."""

import argparse
from dataclasses import replace

from lean_tumbler.cli.options import add_policy_option, add_report_options, read_bounds
from lean_tumbler.cli.session import Session
from lean_tumbler.errors import UsageError

EXAMPLE = """\
  lean-tumbler explain '$2b$05$Bj71jXIzxD43Uq3VTt1rmucdgFNf2XOvkkyAq5vWOAlifqILUBgde'
  lean-tumbler explain - < value.txt      keeps it out of the shell's history"""

_VALUE_BYTES = 1 << 20


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument("value", metavar="VALUE", help="the stored value, or - for standard input")
    parser.add_argument(
        "--salted", action="store_true", help="a salt stands in a column beside the value"
    )
    add_policy_option(parser)
    add_report_options(parser)


def run(arguments: argparse.Namespace, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.core.grades import grade
    from lean_tumbler.core.limits import over_limits
    from lean_tumbler.core.schemes.catalogue import read_value
    from lean_tumbler.reports.explain import explain_document, explain_text

    parsed = read_value(_value(arguments, session))
    salted = parsed.salted or arguments.salted
    floor, limits = read_bounds(arguments)
    found = grade(parsed, floor, salted=salted)
    asked = over_limits(parsed, limits)
    if asked:
        note = f"It asks for {asked}: a login with it is refused and not run."
        contents = replace(parsed.contents, notes=(*parsed.contents.notes, note))
        parsed = replace(parsed, contents=contents)
    session.emit(
        arguments,
        document=lambda: explain_document(parsed, found, salted=salted),
        text=lambda columns: explain_text(columns, parsed, found, salted=salted),
    )
    return 0


def _value(arguments: argparse.Namespace, session: Session) -> str:
    if arguments.value != "-":
        return str(arguments.value)
    raw = session.stdin.read(_VALUE_BYTES + 1)
    if len(raw) > _VALUE_BYTES:
        raise UsageError(f"standard input: longer than {_VALUE_BYTES:,} bytes; give one value")
    try:
        return raw.decode("utf-8").removesuffix("\n").removesuffix("\r")
    except UnicodeDecodeError as error:
        raise UsageError(f"standard input: not UTF-8 at byte {error.start}") from None
