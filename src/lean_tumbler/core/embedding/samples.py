"""Values that cost what others do, and that no password opens: for refusals."""

from lean_tumbler.core.schemes import phc
from lean_tumbler.core.schemes.base import Parameters
from lean_tumbler.core.schemes.catalogue import CRYPT_SCHEMES, DERIVATIONS

_SALT = b"no password here"


def sample_of(scheme: str, parameters: Parameters) -> str:
    """Give a value of a scheme and costs whose digest is zeros."""
    if scheme == "bcrypt":
        return f"$2b${parameters['cost_log2']:02d}${'.' * 53}"
    if scheme in DERIVATIONS:
        if scheme.startswith("argon2"):
            memory, passes, lanes = (parameters[n] for n in ("memory_kib", "passes", "lanes"))
            start, size = f"${scheme}$v=19$m={memory},t={passes},p={lanes}", 32
        elif scheme == "scrypt":
            cost, block, lanes = (parameters[n] for n in ("cost_log2", "block_size", "lanes"))
            start, size = f"$scrypt$ln={cost},r={block},p={lanes}", 32
        else:
            form = DERIVATIONS[scheme].on_top
            size = form.digest_bytes if form is not None else 20
            start = f"${scheme}$i={parameters['rounds']},l={size}"
        return f"{start}${phc.encode(_SALT)}${phc.encode(bytes(size))}"
    rounds = parameters.get("rounds", 0)
    starts = {
        "md5-crypt": "$1$........$",
        "sha256-crypt": f"$5$rounds={rounds}$................$",
        "sha512-crypt": f"$6$rounds={rounds}$................$",
    }
    return starts[scheme] + filler_of(scheme)


def filler_of(scheme: str) -> str:
    """Give what stands for the digest behind a setting of crypt(5)."""
    return CRYPT_SCHEMES[scheme].filler or "." * 22
