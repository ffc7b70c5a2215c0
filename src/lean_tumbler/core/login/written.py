"""Values as they are written: each is parsed again from its text before a store sees it."""

from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.reading.readings import State
from lean_tumbler.core.reading.rows import Row
from lean_tumbler.core.schemes import layered
from lean_tumbler.core.schemes.base import Kind, Parameters, ParsedValue
from lean_tumbler.core.schemes.catalogue import DERIVATIONS, read_value
from lean_tumbler.errors import WriteNotConfirmed


def made(
    scheme: str, parameters: Parameters, password: bytes, salt: bytes, *, variant: str = ""
) -> str:
    """Make a direct value: one derivation. Nothing is confirmed yet."""
    derivation = DERIVATIONS[scheme]
    value = derivation.create(password, salt, parameters)
    return derivation.as_variant(value, variant) if variant else value


def direct(
    scheme: str, parameters: Parameters, password: bytes, salt: bytes, *, variant: str = ""
) -> str:
    """Make a direct value: one derivation.

    Raises:
        WriteNotConfirmed: its text would not be read as what it was made from.
    """
    value = made(scheme, parameters, password, salt, variant=variant)
    require_direct(value, scheme=scheme, parameters=parameters, salt=salt)
    return value


def require_direct(value: str, *, scheme: str, parameters: Parameters, salt: bytes) -> None:
    """Refuse a direct value that is not read again as what it was made from.

    Raises:
        WriteNotConfirmed: naming the scheme, never the value.
    """
    parsed = read_value(value)
    is_clean = parsed.kind is Kind.DERIVATION and not parsed.wrappers
    if not is_clean or not _is_of(parsed, scheme, parameters, salt):
        raise WriteNotConfirmed(f"a new {scheme} value would not be read as one; it is not written")


def require_layered(
    value: str,  # the text that is to be written
    *,
    head: layered.Head,  # what it was made with
    scheme: str,  # of the derivation on top
    parameters: Parameters,  # its costs
    salt: bytes,  # its salt
    reader: RowReader,  # of the store, which must find the ways below it
) -> None:
    """Refuse a layered value that is not read again as what it was made from.

    Raises:
        WriteNotConfirmed: saying what differs, never the value.
    """  # fmt: skip
    reading = reader.read(Row(stored=value.encode("utf-8")))
    inner, contents = reading.parsed.inner, reading.parsed.contents
    origins = tuple(way.origin for way in reading.ways if not hasattr(way, "password"))
    if reading.state is not State.LAYERED or inner is None or reading.parsed.wrappers:
        problem = "is not read as layered"
    elif not _is_of(inner, scheme, parameters, salt):
        problem = "loses what lies on top"
    elif not value.startswith(str(head)) or (
        (contents.origin, contents.salt, contents.login, dict(contents.parts))
        != (head.origin, head.salt, head.login, dict(head.parts))
    ):
        problem = "loses its head"
    elif reading.missing or origins != layered.origins_of(head.origin):
        problem = "loses what lies below"
    else:
        return
    raise WriteNotConfirmed(f"a layered value {problem} when it is read again; it is not written")


def _is_of(parsed: ParsedValue, scheme: str, parameters: Parameters, salt: bytes) -> bool:
    asked = {name: parsed.parameters.get(name) for name in parameters}
    return parsed.scheme == scheme and asked == dict(parameters) and parsed.salt == salt
