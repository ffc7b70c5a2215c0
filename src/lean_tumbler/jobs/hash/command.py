"""`hash`: the stored value for a new password that keeps the policy's rules."""

from dataclasses import dataclass

from lean_tumbler.cli.declared import flag, option
from lean_tumbler.cli.option_types import PolicyOptions
from lean_tumbler.cli.options import read_policy
from lean_tumbler.cli.session import Session

EXAMPLE = """\
  lean-tumbler hash < password.txt
  lean-tumbler hash     asks twice, without echo"""


@dataclass(frozen=True, kw_only=True)
class Options(PolicyOptions):
    """What the command was asked for."""

    force: bool = flag("accept the password although it reads as a stored value")
    login: str | None = option("NAME", "the account's login; the password must not be made of it")
    account: str | None = option(
        "KEY", "what names the account's row, where the policy binds values to accounts"
    )


def run(options: Options, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.core.login.gateway import CredentialGateway
    from lean_tumbler.core.reading.rows import account_name

    policy = read_policy(options, required=False)
    password = session.read_password(policy.limits, confirm=True)
    value = CredentialGateway(policy).hash(
        password=password,
        login=options.login,
        account=options.account and account_name(options.account),
        force=options.force,
    )
    session.stdout.write(value + "\n")
    return 0
