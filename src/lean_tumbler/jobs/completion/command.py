"""`completion`: what a shell reads to complete the program's lines."""

from dataclasses import dataclass

from lean_tumbler.cli.declared import argument
from lean_tumbler.cli.session import Session

SHELLS = ("bash", "zsh", "fish")

EXAMPLE = """\
  eval "$(lean-tumbler completion bash)"
  eval "$(lean-tumbler completion zsh)"
  lean-tumbler completion fish | source"""


@dataclass(frozen=True, kw_only=True)
class Options:
    """What the command was asked for."""

    shell: str = argument(
        "SHELL",
        f"{', '.join(SHELLS[:-1])} or {SHELLS[-1]}; put the line of the example into its "
        "start-up file",
        choices=SHELLS,
    )


def run(options: Options, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.cli.completion import script

    session.stdout.write(script("lean-tumbler", options.shell))
    return 0
