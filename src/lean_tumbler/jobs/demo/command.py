"""`demo`: the whole job on invented data."""

from dataclasses import dataclass
from pathlib import Path

from lean_tumbler.cli.declared import option
from lean_tumbler.cli.session import Session

EXAMPLE = """\
  lean-tumbler demo
  lean-tumbler demo --into /tmp/coldharbour"""


@dataclass(frozen=True, kw_only=True)
class Options:
    """What the command was asked for."""

    into: Path = option(
        "DIR",
        "the folder to write the files to (default: coldharbour)",
        default=Path("coldharbour"),
    )


def run(options: Options, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.cli.main import run as run_command
    from lean_tumbler.demo.tour import take_tour

    return take_tour(options.into, run_command, session)
