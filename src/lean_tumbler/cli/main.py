"""The program: finds the command, runs it, and turns errors into one line and an exit code."""

import argparse
import gc
import importlib
import os
import sys
from collections.abc import Mapping, Sequence
from contextlib import suppress
from functools import partial
from types import MappingProxyType, ModuleType
from typing import TYPE_CHECKING, Any, NoReturn

from lean_tumbler.cli.commands import SUMMARIES
from lean_tumbler.cli.descriptors import open_missing_descriptors
from lean_tumbler.cli.session import Session
from lean_tumbler.errors import TumblerError, UsageError

if TYPE_CHECKING:
    from lean_tumbler.cli.declared import CommandPart

NAME = "lean-tumbler"
STOPPED = 4
# Python's default of 700 new objects between two collections costs a bulk step 5 % of its rate.
_OBJECTS_BETWEEN_COLLECTIONS = 20_000
_NOT_WRITTEN = 3
_COMPLETING = "_ARGCOMPLETE"  # set by a shell that asks for completions
# Which extra brings a module that the plain install does without.
_EXTRAS = {
    "polars": "analysis",
    "numpy": "analysis",
    "scipy": "analysis",
    "matplotlib": "analysis",
    "zstandard": "analysis",
    "psycopg": "postgresql",
    "pymysql": "mysql",
}

EXIT_CODES: Mapping[int, str] = MappingProxyType(
    {
        0: "done, nothing wrong",
        1: "the answer is no, or a finding at or above --fail-on is there",
        2: "wrong usage or policy",
        3: "a source or store could not be read or written",
        4: "stopped part-way; run again to continue",
    }
)

_DESCRIPTION = """\
Audits inherited password stores, recovers how they were made, and upgrades every account to a
slow hash at login: nobody has to reset a password."""
_EPILOG = f"""\
start with:
  lean-tumbler demo              the whole job on invented data, in a minute
  lean-tumbler audit FILE        your own SQLite database; it is only read

exit codes:
{chr(10).join(f"  {code}  {meaning}" for code, meaning in EXIT_CODES.items())}

Passwords are read from standard input or a prompt, never from arguments."""


class _Parser(argparse.ArgumentParser):
    """Never repeats what was typed where it may be a password or a stored value."""

    def _get_values(self, action: argparse.Action, arg_strings: list[str]) -> Any:
        """Take `--literal=--` for what it says; argparse would take the dashes away."""
        if arg_strings == ["--"] and action.option_strings and action.nargs is None:
            return self._get_value(action, "--")
        return super()._get_values(action, arg_strings)

    def error(self, message: str) -> NoReturn:
        if message.startswith("unrecognized arguments"):
            message = "too many arguments; put quotes around a value with blanks or dollars"
        self.exit(2, f"{self.prog}: {message}; see {self.prog} --help\n")


def command_module(name: str) -> ModuleType:
    """Import the module of one command."""
    return importlib.import_module(f"lean_tumbler.jobs.{name.replace('-', '_')}.command")


def _called(argv: Sequence[str]) -> str | None:
    """Find the command among the arguments."""
    return next((word for word in argv if not word.startswith("-")), None)


def build_parser(argv: Sequence[str], *, each: bool = False) -> argparse.ArgumentParser:
    """Build the parser: the command that is called with its options, or all by name.

    Args:
        argv: the arguments.
        each: whether all have a parser of their own, which takes longer than all else that help
            needs.
    """
    parser = _Parser(
        prog=NAME,
        description=_DESCRIPTION,
        epilog=_EPILOG,
        formatter_class=argparse.RawDescriptionHelpFormatter,
        allow_abbrev=False,
    )
    parser.add_argument("--version", action="store_true", help="print the version")
    parser.add_argument("--debug", action="store_true", help="show tracebacks")
    called = _called(argv)
    kind: Any = _Parser if each or called in SUMMARIES else lambda **_: None
    commands = parser.add_subparsers(
        dest="command", metavar="COMMAND", title="commands", parser_class=kind
    )
    if called not in SUMMARIES:
        for name, summary in SUMMARIES.items():
            commands.add_parser(name, help=summary)
        return parser
    summary, module = SUMMARIES[called], command_module(called)
    command = commands.add_parser(
        called,
        help=summary,
        description=f"{summary[0].upper()}{summary[1:]}.",
        epilog=f"example:\n{module.EXAMPLE}",
        formatter_class=argparse.RawDescriptionHelpFormatter,
        allow_abbrev=False,
    )
    command.add_argument(
        "--debug", action="store_true", default=argparse.SUPPRESS, help=argparse.SUPPRESS
    )
    _configure(command, module)
    return parser


def _configure(command: argparse.ArgumentParser, module: ModuleType) -> None:
    """Give a command its options, or the commands that it has."""
    from lean_tumbler.cli.declared import add_options  # help of all commands needs none of it

    parts: Sequence[CommandPart] = getattr(module, "PARTS", ())
    if not parts:
        add_options(command, module.Options)
        command.set_defaults(act=module.run, kind=module.Options)
        return
    named = "|".join(part.name for part in parts)
    commands = command.add_subparsers(metavar=named, required=True)
    for part in parts:
        own = commands.add_parser(
            part.name,
            help=part.does,
            description=f"{part.does[0].upper()}{part.does[1:]}.",
            epilog=command.epilog,
            formatter_class=argparse.RawDescriptionHelpFormatter,
        )
        add_options(own, part.options)
        own.set_defaults(act=part.run, kind=part.options)


def run(argv: Sequence[str], session: Session) -> int:
    """Run one command.

    Args:
        argv: the arguments, without the program's name.
        session: streams and environment.

    Returns:
        The exit code.
    """
    called = _called(argv)
    if called is not None and called not in SUMMARIES:
        import difflib

        near = difflib.get_close_matches(called, SUMMARIES, n=1)
        hint = f"did you mean “{near[0]}”?" if near else f"known: {', '.join(SUMMARIES)}"
        session.message(f"{NAME}: no such command; {hint}")
        return UsageError.exit_code
    parser = build_parser(argv)
    arguments = parser.parse_args(argv)
    try:
        if arguments.version or arguments.command is None:
            session.stdout.write(_version() if arguments.version else parser.format_help())
            session.stdout.flush()
            return 0
        from lean_tumbler.cli.declared import asked

        return int(arguments.act(asked(arguments.kind, arguments), session))
    except (TumblerError, KeyboardInterrupt, ModuleNotFoundError) as error:
        _trace(arguments, session)
        return _explained(error, arguments.command, session)
    except BrokenPipeError:
        # The reader has gone; nothing more can be said to it.
        _say_no_more()
        return _NOT_WRITTEN
    except OSError as error:
        _say_no_more()
        reason = error.strerror or type(error).__name__
        session.message(f"{NAME}: the result could not be written: {reason}")
        return _NOT_WRITTEN
    except Exception as error:  # noqa: BLE001 - the last line of defence: no traceback, no values
        _trace(arguments, session)
        session.message(
            f"{NAME} {arguments.command}: internal error ({type(error).__name__}); please report "
            "what --debug shows, once you have checked that it holds nothing private"
        )
        return TumblerError.exit_code


def _version() -> str:
    from importlib.metadata import version

    return f"{NAME} {version(NAME)}\n"


def _say_no_more() -> None:
    """Send what is still to be flushed nowhere, so that the interpreter's end says nothing."""
    with suppress(OSError, ValueError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _trace(arguments: argparse.Namespace, session: Session) -> None:
    """Show where the error came from; a traceback holds source lines, never values."""
    if arguments.debug:
        import traceback

        session.message(traceback.format_exc())


def _explained(error: BaseException, command: str, session: Session) -> int:
    if isinstance(error, KeyboardInterrupt):
        session.message(f"{NAME} {command}: stopped")
        return STOPPED
    if isinstance(error, ModuleNotFoundError):
        extra = _EXTRAS.get((error.name or "").partition(".")[0], "all")
        session.message(
            f"{NAME} {command}: the module {error.name} is not installed; "
            f"install it with: pip install '{NAME}[{extra}]'"
        )
        return 2
    session.message(f"{NAME} {command}: {error}")
    return error.exit_code if isinstance(error, TumblerError) else TumblerError.exit_code


# Drivers that tidy up after their server has died, from finalisers: nobody can catch what those
# raise, and the error itself has been reported by then.
_TIDYING = frozenset({"psycopg", "psycopg_binary", "pymysql", "sqlalchemy", "adbc_driver_manager"})


def _note_unraisable(found: "sys.UnraisableHookArgs") -> None:
    """Tell an error that nobody can catch by its kind alone, unless a driver tidies up."""
    module = str(getattr(found.object, "__module__", ""))
    if module.partition(".")[0] not in _TIDYING:
        print(  # noqa: T201 - there is no session any more
            f"{NAME}: an error in a finaliser ({found.exc_type.__name__} in "
            f"{module or 'a finaliser'}); --debug shows it",
            file=sys.stderr,
        )


def main() -> NoReturn:
    """Run the program and leave with its exit code."""
    gc.set_threshold(_OBJECTS_BETWEEN_COLLECTIONS)
    open_missing_descriptors()
    if _called(sys.argv[1:]) is not None:  # help holds no secrets
        from lean_tumbler.cli.core_dumps import forbid_core_dumps

        forbid_core_dumps()
    if _COMPLETING in os.environ:
        from lean_tumbler.cli.completion import complete

        complete(partial(build_parser, each=True))
    if "--debug" not in sys.argv:
        sys.unraisablehook = _note_unraisable
    sys.exit(run(sys.argv[1:], Session.of_process()))
