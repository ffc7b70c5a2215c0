"""`demo`: the whole job on invented data."""

import argparse
from pathlib import Path

from lean_tumbler.cli.session import Session

EXAMPLE = """\
  lean-tumbler demo
  lean-tumbler demo --into /tmp/coldharbour"""


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument(
        "--into",
        type=Path,
        default=Path("coldharbour"),
        metavar="DIR",
        help="the folder to write the files to (default: coldharbour)",
    )


def run(arguments: argparse.Namespace, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.cli.main import run as run_command
    from lean_tumbler.demo.tour import take_tour

    return take_tour(arguments.into, run_command, session)
