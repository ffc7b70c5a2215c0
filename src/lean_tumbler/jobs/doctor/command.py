"""`doctor`: what is installed, readable and reachable, and what to do about the rest."""

import os
from dataclasses import dataclass
from typing import TYPE_CHECKING

from lean_tumbler.cli.option_types import PolicyOptions, ReportOptions
from lean_tumbler.cli.options import policy_path
from lean_tumbler.cli.session import Session

if TYPE_CHECKING:
    from rich.console import Console

    from lean_tumbler.jobs.doctor.examining import DoctorDocument

EXAMPLE = """\
  lean-tumbler doctor
  lean-tumbler doctor --policy tumbler.toml --format json"""


@dataclass(frozen=True, kw_only=True)
class Options(PolicyOptions, ReportOptions):
    """What the command was asked for."""


def run(options: Options, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.jobs.doctor.examining import DoctorDocument, Health, examined

    found = list(examined(policy_path(options), os.environ))
    session.emit(options, DoctorDocument(examined=found), draw=_draw)
    return int(any(one.state is Health.WRONG for one in found))


def _draw(console: "Console", document: "DoctorDocument") -> None:
    """Print a list with ticks, and remedies beneath."""
    from rich.text import Text

    from lean_tumbler.jobs.doctor.examining import Health
    from lean_tumbler.reports.wording import count

    found = document.examined
    wrong = sum(one.state is Health.WRONG for one in found)
    missing = sum(one.state is Health.MISSING for one in found)
    headline = f"{count(wrong, 'problem')}, {missing} missing, of {len(found)} looked at."
    console.print(Text(headline, "bold red" if wrong else "bold green"))
    console.print()
    signs = {Health.OK: ("✓", "green"), Health.MISSING: ("–", "yellow"), Health.WRONG: ("✗", "red")}
    for one in found:
        sign, style = signs[one.state]
        console.print(
            Text.assemble((f"{sign} {one.what}", style), f": {one.says}"), highlight=False
        )
        if one.remedy:
            console.print(f"    {one.remedy}", highlight=False)
