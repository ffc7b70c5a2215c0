"""Operators for objects of libraries: rows, ciphers, key specifications, lists and their texts."""

from collections.abc import Mapping
from types import MappingProxyType

from lean_tumbler.core.code.members import member_of, named_input, written_fields
from lean_tumbler.core.code.naming import role_of
from lean_tumbler.core.code.operators import (
    OPERATORS,
    Operator,
    Site,
    joined,
    number,
    step,
    text,
)
from lean_tumbler.core.code.places import Kind
from lean_tumbler.core.code.terms import (
    NOTHING,
    Constant,
    Either,
    Fields,
    Gap,
    Handle,
    Input,
    Pending,
    Reference,
    Role,
    Routine,
    Step,
    Term,
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
    site.tell(Kind.RENEWS, stored)
    return Step("outdated", (stored,), site.place)


def _stripped(site: Site, of: Term, signs: Term = NOTHING) -> Term:
    said = text(signs)
    if said is not None and said.strip() == "=" and isinstance(of, Step) and of.name in {
        "base64", "base64url",
    }:  # fmt: skip
        return step(site, f"{of.name}-unpadded", *of.of)
    return step(site, "trim", of)


def _row(site: Site, of: Term) -> Term:
    """Give one row of a result; its columns are known by name and place."""
    if isinstance(of, Fields):
        return Fields(of.pairs, name="row")
    if isinstance(of, Either):
        return either([_row(site, option) for option in of.options])
    return Input(Role.RECORD, "row", site.place)


def _first_column(site: Site, of: Term) -> Term:
    if isinstance(of, Fields) and of.pairs:
        return of.pairs[0][1]
    return gap("a column that is not followed", site.place, (of,))


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
    if encoding == Constant(16) or number(encoding) == 16:
        return step(site, "hex-byte", of)
    if encoding == NOTHING:
        return of
    return OPERATORS["encoded"](site, of, encoding)


def _normalised(site: Site, of: Term, form: Term = NOTHING) -> Term:
    name = (text(form) or "nfc").lower()
    if name not in {"nfc", "nfd"}:
        return gap("a form of Unicode that is not followed", site.place, (of,))
    return step(site, name, of)


def _split(site: Site, of: Term, separator: Term = NOTHING) -> Term:
    """Split text: at nothing into its characters, else into parts that are not told apart."""
    if separator == NOTHING or text(separator) == "":
        return Step("characters", (of,), site.place)
    return Step("parts", (of,), site.place, (), text(separator) or "")


def _reversed_list(site: Site, of: Term) -> Term:
    if isinstance(of, Step) and of.name == "characters":
        return Step("characters", (step(site, "reverse", *of.of),), site.place)
    return gap("a list that is not followed", site.place, (of,))


def _joined_list(site: Site, of: Term, separator: Term = NOTHING) -> Term:
    if isinstance(of, Step) and of.name == "characters" and text(separator) in {"", None}:
        return of.of[0]
    return OPERATORS["concatenated"](site, of, separator)


def _mapped_if(site: Site, of: Term, routine: Term = NOTHING) -> Term:
    return OPERATORS["mapped"](site, of, routine) if routine != NOTHING else of


def _appended(site: Site, of: Term, *given: Term) -> Term:
    if isinstance(of, Fields) and of.is_list:
        pairs = [(str(len(of.pairs) + place), each) for place, each in enumerate(given)]
        return Fields((*of.pairs, *pairs), is_list=True)
    return of


def _appended_bytes(site: Site, first: Term, *given: Term) -> Term:
    """Append to bytes; what is appended to a list becomes one of it."""
    if isinstance(first, Fields) and first.pairs:
        return _appended(site, first, *given)
    if isinstance(first, Fields) or first == NOTHING:
        return given[0] if len(given) == 1 else _appended(site, Fields((), is_list=True), *given)
    return joined(site, first, *given)


def _spread(site: Site, *given: Term) -> Term:
    return Fields(tuple(("...", each) for each in given))


def _later_rows(site: Site, rows: Term, *given: Term) -> Term:
    """Give rows that are waited for, and also to a function that was given for them."""
    results = [site.apply(each, NOTHING, rows) for each in given if isinstance(each, Routine)]
    return either(results) if results else Pending(rows)


def _answered(site: Site, of: Term, *given: Term) -> Term:
    """Answer a request; the body of one that was made elsewhere is read by the same name."""
    if not given or (isinstance(of, Input) and of.is_request):
        return Pending(Input(Role.RECORD, "body", site.place, is_request=True))
    return OPERATORS["leaves"](site, Constant("response"), *given)


def _module(site: Site, name: Term) -> Term:
    found = (text(name) or "?").removeprefix("node:").rpartition("/")[2]
    site.loads(found)
    return Reference(found)


def _hash_once(site: Site, name: Term, of: Term, encoding: Term = NOTHING) -> Term:
    made = OPERATORS["digest"](site, name, of)
    return OPERATORS["encoded"](site, made, Constant("hex") if encoding == NOTHING else encoding)


def _found_by(site: Site, *given: Term) -> Term:
    """Find records by their fields."""
    for column, value in written_fields(given):
        if column != "*" and role_of(column) is not Role.SALT:
            site.tell(Kind.FINDS, value, how=column)
    return Pending(Input(Role.RECORD, "row", site.place))


def _printed(site: Site, of: Term, encoding: Term = NOTHING) -> Term:
    """Print a value as the language shows it: bytes get marks around them."""
    if encoding != NOTHING:
        return of
    found = [
        Step("printed", (option,), site.place) if gives_bytes(option) else option
        for option in options(of)
    ]
    return either(found)


def gives_bytes(term: Term) -> bool:
    """Tell whether a term is bytes for certain."""
    if isinstance(term, Constant):
        return isinstance(term.value, bytes)
    return isinstance(term, Step) and term.name in {
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


def _counted(site: Site, start: Term, end: Term = NOTHING) -> Term:
    first, last = (Constant(0), start) if end == NOTHING else (start, end)
    bounds = (number(first), number(last))
    if bounds[0] is None or bounds[1] is None:
        return gap("a range that is not followed", site.place, (start, end))
    return Step("range", (), site.place, (bounds[0], bounds[1]))


def _attribute(site: Site, of: Term, name: Term) -> Term:
    found = member_of(of, text(name) or "?", site.place)
    if isinstance(found, Input) and found.role is Role.PASSWORD and found.is_request:
        site.tell(Kind.TAKES, found)
    return found


def _formatted_by(site: Site, of: Term, pattern: Term) -> Term:
    if text(pattern) in {"02x", "x", "02X"}:
        return OPERATORS["formatted"](site, Constant("%" + (text(pattern) or "")), of)
    return gap("a pattern that is not followed", site.place, (of,))


def _asked(site: Site, prompt: Term = NOTHING) -> Term:
    return named_input(text(prompt) or "", site.place, is_request=True)


def _query_many(site: Site, sql: Term, given: Term = NOTHING, *more: Term) -> Term:
    first = given.pairs[0][1] if isinstance(given, Fields) and given.pairs else given
    return site.query(sql, (first, *more))


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
    return Input(Role.RANDOM if is_secure else Role.WEAK, "random", site.place)


def _number_of(site: Site, data: Term) -> Term:
    return Step("number", (data,), site.place)


def _based(site: Site, of: Term, base: Term = NOTHING) -> Term:
    """Write in a base: a large number loses the zeros in front."""
    if number(base) == 16 and isinstance(of, Step) and of.name == "number":
        return gap("a number whose leading zeros are lost", site.place, of.of)
    if number(base) == 16:
        return step(site, "hex-byte", of)
    return of


def _held(site: Site, of: Term, name: Term) -> Term:
    """Give a column of a row."""
    return member_of(_row(site, of), text(name) or str(number(name) or "?"), site.place)


def _bytes_or_held(site: Site, of: Term, name: Term = NOTHING) -> Term:
    """Give a text's bytes, or a column of a row: Java names both alike."""
    is_row = isinstance(of, Fields | Handle) or (
        isinstance(of, Input) and of.role is Role.RECORD
    )
    return _held(site, of, name) if is_row else OPERATORS["bytes_of"](site, of, name)


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
        and isinstance(of, Step)
        and (of.name == "base64")
    ):
        return step(site, "base64url", *of.of)
    return gap("a translation that is not followed", site.place, (of,))


def _opened(site: Site, stored: Term) -> Term:
    """Open a stored value as an object that compares itself with a password."""
    return Step("opened", (stored,), site.place)


def _set_named(site: Site, name: Term, value: Term) -> Term:
    site.tell(Kind.WRITES, value, how=text(name) or "")
    return NOTHING


def _written_to(site: Site, of: Term, data: Term) -> Term:
    """Write to a digest, a text that grows, or an answer."""
    if isinstance(of, Handle):
        return OPERATORS["more"](site, of, data)
    if isinstance(of, Step | Constant) and of != NOTHING:
        return joined(site, of, data)
    OPERATORS["leaves"](site, Constant("response"), data)
    return data if isinstance(of, Reference) else of


def _finished_behind(site: Site, of: Term, prefix: Term) -> Term:
    made = OPERATORS["finished"](site, of)
    return made if prefix == NOTHING else joined(site, prefix, made)


def _base64_lines(site: Site, of: Term) -> Term:
    """Ruby's older function breaks lines; a digest of up to 45 bytes gets one at its end."""
    return Step("base64-line", (of,), site.place)


OPERATORS_OF_OBJECTS: Mapping[str, Operator] = MappingProxyType(
    {
        "php_pbkdf2": _php_pbkdf2,
        "outdated": _outdated,
        "checksum": _lost("a checksum"),
        "stripped": _stripped,
        "unescaped": _lost("an escaping that is undone"),
        "stripped_tags": _lost("tags that are taken out"),
        "for_query": lambda _site, of, *_more: of,
        "split": _split,
        "character": _lost("a character by its number"),
        "row": _row,
        "rows": _row,
        "first_column": _first_column,
        "compared_with": _compared_with,
        "cipher": _cipher,
        "updated": _updated,
        "to_text": _to_text,
        "promised": lambda _site, routine: routine,
        "normalised": _normalised,
        "reversed_list": _reversed_list,
        "joined_list": _joined_list,
        "mapped_if": _mapped_if,
        "appended": _appended,
        "appended_bytes": _appended_bytes,
        "spread": _spread,
        "later_rows": _later_rows,
        "answered": _answered,
        "module": _module,
        "hash_once": _hash_once,
        "found_by": _found_by,
        "printed": _printed,
        "python_format": _python_format,
        "counted": _counted,
        "attribute": _attribute,
        "formatted_by": _formatted_by,
        "asked": _asked,
        "query_many": _query_many,
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
        "held": _held,
        "bytes_or_held": _bytes_or_held,
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
ALL_OPERATORS: Mapping[str, Operator] = MappingProxyType({**OPERATORS, **OPERATORS_OF_OBJECTS})
