"""`hash`: the stored value for a new password that keeps the policy's rules."""

import argparse

from lean_tumbler.cli.options import add_policy_option, read_policy
from lean_tumbler.cli.session import Session

EXAMPLE = """\
  lean-tumbler hash < password.txt
  lean-tumbler hash     asks twice, without echo"""


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument(
        "--force", action="store_true", help="take the password although it reads as a stored value"
    )
    parser.add_argument(
        "--login", metavar="NAME", help="whose password it will be: it must not be made of that"
    )
    add_policy_option(parser)


def run(arguments: argparse.Namespace, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.core.login.gateway import CredentialGateway

    policy = read_policy(arguments, required=False)
    password = session.read_password(policy.limits, confirm=True)
    value = CredentialGateway(policy).hash(
        password=password, login=arguments.login, force=arguments.force
    )
    session.stdout.write(value + "\n")
    return 0
