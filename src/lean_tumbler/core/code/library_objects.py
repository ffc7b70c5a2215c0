"""Operators for objects of libraries: rows, ciphers, key specifications, lists and their texts."""

from collections.abc import Mapping
from types import MappingProxyType

from lean_tumbler.core.code.list_operators import LIST_OPERATORS
from lean_tumbler.core.code.members import named_input
from lean_tumbler.core.code.operators import OPERATORS
from lean_tumbler.core.code.places import EventKind
from lean_tumbler.core.code.sites import Operator, Site, joined, number, step, text
from lean_tumbler.core.code.terms import (
    NOTHING,
    Constant,
    Either,
    Fields,
    Gap,
    Handle,
    Pending,
    Reference,
    Role,
    Term,
    TermInput,
    TermStep,
    either,
    gap,
    options,
)


def _lost(why: str) -> Operator:
    """Make an operator that is followed no further."""

    def make(site: Site, *of: Term) -> Term:
        return gap(why, site.place, of)

    return make


def _php_pbkdf2(
    site: Site, name: Term, password: Term, salt: Term, rounds: Term, length: Term, raw: Term
) -> Term:
    """PHP cuts hexadecimal text, not bytes, to the length."""
    is_raw = isinstance(raw, Constant) and bool(raw.value)
    made = OPERATORS["pbkdf2"](site, name, password, salt, rounds, length if is_raw else NOTHING)
    if is_raw:
        return made
    digits = number(length)
    written = step(site, "hex", made)
    return step(site, "slice", written, numbers=(0, digits)) if digits else written


def _outdated(site: Site, stored: Term) -> Term:
    site.tell(EventKind.RENEWS, stored)
    return TermStep("outdated", (stored,), site.place)


def _stripped(site: Site, of: Term, signs: Term = NOTHING) -> Term:
    said = text(signs)
    if said is not None and said.strip() == "=" and isinstance(of, TermStep) and of.name in {
        "base64", "base64url",
    }:  # fmt: skip
        return step(site, f"{of.name}-unpadded", *of.of)
    return step(site, "trim", of)


def _compared_with(site: Site, value: Term, others: Term) -> Term:
    return OPERATORS["equal"](site, value, others, Constant("=="))


def _cipher(site: Site, key: Term) -> Term:
    return Handle("cipher", (key,), "", site.place)


def _updated(site: Site, of: Term, data: Term, encoding: Term = NOTHING) -> Term:
    """Give an object more to digest; what it encrypts is noted."""
    if isinstance(of, Either):
        return either([_updated(site, option, data, encoding) for option in of.options])
    if isinstance(of, Handle) and of.kind == "cipher":
        return OPERATORS["encrypted"](site, data, *of.of)
    if not isinstance(of, Handle):
        return OPERATORS["stored_by"](site, Constant("update"), data, encoding)
    is_name = text(encoding) in {"hex", "base64", "latin1", "binary", "utf16le", "ucs2"}
    value = OPERATORS["bytes_of"](site, data, encoding) if is_name else data
    return OPERATORS["more"](site, of, value)


def _to_text(site: Site, of: Term, encoding: Term = NOTHING) -> Term:
    """Write bytes as text, or a byte in hexadecimal."""
    if number(encoding) == 16:
        return step(site, "hex-byte", of)
    if encoding == NOTHING:
        return of
    return OPERATORS["encoded"](site, of, encoding)


def _normalised(site: Site, of: Term, form: Term = NOTHING) -> Term:
    name = (text(form) or "nfc").lower()
    if name not in {"nfc", "nfd"}:
        return gap("a form of Unicode that is not followed", site.place, (of,))
    return step(site, name, of)


def _answered(site: Site, of: Term, *given: Term) -> Term:
    """Answer a request; the body of one that was made elsewhere is read by the same name."""
    if not given or (isinstance(of, TermInput) and of.is_request):
        return Pending(TermInput(Role.RECORD, "body", site.place, is_request=True))
    return OPERATORS["leaves"](site, Constant("response"), *given)


def _module(site: Site, name: Term) -> Term:
    found = (text(name) or "?").removeprefix("node:").rpartition("/")[2]
    site.loads(found)
    return Reference(found)


def _hash_once(site: Site, name: Term, of: Term, encoding: Term = NOTHING) -> Term:
    made = OPERATORS["digest"](site, name, of)
    return OPERATORS["encoded"](site, made, Constant("hex") if encoding == NOTHING else encoding)


def _printed(site: Site, of: Term, encoding: Term = NOTHING) -> Term:
    """Print a value as the language shows it: bytes get marks around them."""
    if encoding != NOTHING:
        return of
    found = [
        TermStep("printed", (option,), site.place) if _gives_bytes(option) else option
        for option in options(of)
    ]
    return either(found)


def _gives_bytes(term: Term) -> bool:
    """Tell whether a term is bytes for certain."""
    if isinstance(term, Constant):
        return isinstance(term.value, bytes)
    return isinstance(term, TermStep) and term.name in {
        "digest", "hmac", "pbkdf2", "unhex", "unbase64",
    }  # fmt: skip


def _python_format(site: Site, pattern: Term, *given: Term) -> Term:
    """Put values into a pattern with braces."""
    said = text(pattern)
    if said is None or not isinstance(pattern, Constant):
        return gap("a pattern that is not followed", site.place, given)
    found: list[Term] = []
    pieces = said.split("{")
    found.append(Constant(pieces[0], site.place))
    for place, piece in enumerate(pieces[1:]):
        key, _, rest = piece.partition("}")
        at = int(key) if key.isdigit() else place
        if key and not key.isdigit():
            value = _by_key(given, key)
        else:
            value = given[at] if at < len(given) else NOTHING
        found.extend([value, Constant(rest, site.place)])
    return joined(site, *found)


def _by_key(given: tuple[Term, ...], key: str) -> Term:
    for each in given:
        if isinstance(each, Fields):
            for name, value in each.pairs:
                if name == key:
                    return value
    return Gap("a value of a pattern")


def _formatted_by(site: Site, of: Term, pattern: Term) -> Term:
    if text(pattern) in {"02x", "x", "02X"}:
        return OPERATORS["formatted"](site, Constant("%" + (text(pattern) or "")), of)
    return gap("a pattern that is not followed", site.place, (of,))


def _asked(site: Site, prompt: Term = NOTHING) -> Term:
    return named_input(text(prompt) or "", site.place, is_request=True)


def _mac(site: Site, name: Term) -> Term:
    return Handle("hmac", (NOTHING,), text(name) or "", site.place)


def _keyed(site: Site, of: Term, key: Term) -> Term:
    if isinstance(of, Handle) and of.kind == "hmac":
        return Handle("hmac", (key, *of.of[1:]), of.detail, of.place)
    if isinstance(of, Handle) and of.kind == "cipher":
        return Handle("cipher", (key,), "", of.place)
    return of


def _finished_or_encrypted(site: Site, of: Term, *data: Term) -> Term:
    if isinstance(of, Handle) and of.kind == "cipher":
        return OPERATORS["encrypted"](site, *(data or (NOTHING,)), *of.of)
    return OPERATORS["finished"](site, of, *data)


def _pbe_key(site: Site, *given: Term) -> Term:
    return Handle("pbe", given, "", site.place)


def _factory(site: Site, name: Term) -> Term:
    return Handle("factory", (), text(name) or "", site.place)


def _generated(site: Site, of: Term, key: Term) -> Term:
    if not isinstance(of, Handle) or not isinstance(key, Handle) or key.kind != "pbe":
        return gap("a key that is not followed", site.place, (of, key))
    password, salt, rounds, bits = (*key.of, NOTHING, NOTHING, NOTHING)[:4]
    many = number(bits)
    length = Constant(many // 8) if many else NOTHING
    name = Constant(of.detail.removeprefix("PBKDF2WithHmac"))
    return OPERATORS["pbkdf2"](site, name, password, salt, rounds, length)


def _named(site: Site, name: Term) -> Term:
    return Reference(text(name) or "?")


def _drawn(site: Site, of: Term) -> Term:
    is_secure = isinstance(of, Reference) and "Secure" in of.name
    return TermInput(Role.RANDOM if is_secure else Role.WEAK, "random", site.place)


def _number_of(site: Site, data: Term) -> Term:
    return TermStep("number", (data,), site.place)


def _based(site: Site, of: Term, base: Term = NOTHING) -> Term:
    """Write in a base: a large number loses the zeros in front."""
    if number(base) == 16 and isinstance(of, TermStep) and of.name == "number":
        return gap("a number whose leading zeros are lost", site.place, of.of)
    if number(base) == 16:
        return step(site, "hex-byte", of)
    return of


def _updated_or_query(site: Site, of: Term, sql: Term, *given: Term) -> Term:
    if isinstance(of, Handle):
        return OPERATORS["more"](site, of, sql)
    site.query(sql, given)
    return of


def _more_or_stored(site: Site, of: Term, *given: Term) -> Term:
    if isinstance(of, Handle):
        return OPERATORS["more"](site, of, *given)
    OPERATORS["stored_by"](site, Constant("update"), *given)
    return of


def _ruby_unpacked(site: Site, of: Term, pattern: Term) -> Term:
    known = {"H*": "hex", "m0": "unbase64"}
    found = known.get(text(pattern) or "")
    return step(site, found, of) if found else gap("an unpacking", site.place, (of,))


def _ruby_packed(site: Site, of: Term, pattern: Term) -> Term:
    known = {"H*": "unhex", "m0": "base64"}
    found, inner = known.get(text(pattern) or ""), of
    if isinstance(of, Fields) and len(of.pairs) == 1:
        inner = of.pairs[0][1]
    return step(site, found, inner) if found else gap("a packing", site.place, (of,))


def _translated(site: Site, of: Term, before: Term, after: Term) -> Term:
    if (
        text(before) == "+/"
        and text(after) == "-_"
        and isinstance(of, TermStep)
        and (of.name == "base64")
    ):
        return step(site, "base64url", *of.of)
    return gap("a translation that is not followed", site.place, (of,))


def _opened(site: Site, stored: Term) -> Term:
    """Open a stored value as an object that compares itself with a password."""
    return TermStep("opened", (stored,), site.place)


def _set_named(site: Site, name: Term, value: Term) -> Term:
    site.tell(EventKind.WRITES, value, how=text(name) or "")
    return NOTHING


def _written_to(site: Site, of: Term, data: Term) -> Term:
    """Write to a digest, a text that grows, or an answer."""
    if isinstance(of, Handle):
        return OPERATORS["more"](site, of, data)
    if isinstance(of, TermStep | Constant) and of != NOTHING:
        return joined(site, of, data)
    OPERATORS["leaves"](site, Constant("response"), data)
    return data if isinstance(of, Reference) else of


def _finished_behind(site: Site, of: Term, prefix: Term) -> Term:
    made = OPERATORS["finished"](site, of)
    return made if prefix == NOTHING else joined(site, prefix, made)


def _base64_lines(site: Site, of: Term) -> Term:
    """Ruby's older function breaks lines; a digest of up to 45 bytes gets one at its end."""
    return TermStep("base64-line", (of,), site.place)


OPERATORS_OF_OBJECTS: Mapping[str, Operator] = MappingProxyType(
    {
        "php_pbkdf2": _php_pbkdf2,
        "outdated": _outdated,
        "checksum": _lost("a checksum"),
        "stripped": _stripped,
        "unescaped": _lost("an escaping that is undone"),
        "stripped_tags": _lost("tags that are taken out"),
        "for_query": lambda _site, of, *_more: of,
        "character": _lost("a character by its number"),
        "compared_with": _compared_with,
        "cipher": _cipher,
        "updated": _updated,
        "to_text": _to_text,
        "promised": lambda _site, routine: routine,
        "normalised": _normalised,
        "answered": _answered,
        "module": _module,
        "hash_once": _hash_once,
        "printed": _printed,
        "python_format": _python_format,
        "formatted_by": _formatted_by,
        "asked": _asked,
        "mac": _mac,
        "keyed": _keyed,
        "finished_or_encrypted": _finished_or_encrypted,
        "pbe_key": _pbe_key,
        "factory": _factory,
        "generated": _generated,
        "named": _named,
        "drawn": _drawn,
        "number_of": _number_of,
        "based": _based,
        "half_byte": _lost("a digit"),
        "updated_or_query": _updated_or_query,
        "more_or_stored": _more_or_stored,
        "ruby_unpacked": _ruby_unpacked,
        "ruby_packed": _ruby_packed,
        "translated": _translated,
        "opened": _opened,
        "set_named": _set_named,
        "written_to": _written_to,
        "finished_behind": _finished_behind,
        "base64_lines": _base64_lines,
    }
)


ALL_OPERATORS: Mapping[str, Operator] = MappingProxyType(
    {**OPERATORS, **LIST_OPERATORS, **OPERATORS_OF_OBJECTS}
)
