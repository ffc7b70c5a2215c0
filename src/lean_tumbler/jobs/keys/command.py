"""`keys new`: the key pair for sealed backups."""

from dataclasses import dataclass
from pathlib import Path

from lean_tumbler.cli.declared import CommandPart, argument
from lean_tumbler.cli.session import Session
from lean_tumbler.errors import UsageError

EXAMPLE = """\
  lean-tumbler keys new recovery       makes recovery.private.pem and recovery.public.pem

Keep the private half offline, away from the machine whose values are sealed."""


@dataclass(frozen=True, kw_only=True)
class Options:
    """What the command was asked for."""

    name: Path = argument("NAME", "what the two files begin with")


def _new(options: Options, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.core.sealing import new_key_pair
    from lean_tumbler.stores.file_access import write_text

    private, public = (
        options.name.with_name(f"{options.name.name}.{half}.pem") for half in ("private", "public")
    )
    for path in (private, public):
        if path.exists():
            raise UsageError(
                f"{path} exists and is not overwritten: backups sealed for it would be lost; "
                "choose another name"
            )
    private_text, public_text = new_key_pair()
    write_text(private, private_text + "\n")
    try:
        write_text(public, public_text + "\n")
    except BaseException:  # one half alone would stop the next try
        private.unlink(missing_ok=True)
        raise
    session.message(f"{private}: the private half. Keep it offline; without it nothing is opened.")
    session.message(f"{public}: the public half, for `layer --backup FILE --to {public}`.")
    return 0


PARTS = (
    CommandPart(name="new", does="make a key pair for sealed backups", options=Options, run=_new),
)
