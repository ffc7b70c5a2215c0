"""How Python says things."""

import re
from collections.abc import Mapping, Sequence
from typing import ClassVar

from lean_tumbler.core.embedding.check import StoreCheck
from lean_tumbler.core.embedding.cohort_lines import CohortLines
from lean_tumbler.core.embedding.vectors import INVENTED_LOGIN, Vector
from lean_tumbler.core.reading.conditions import Test
from lean_tumbler.core.reading.rows import LOGIN, SALT, STORED

# Of hashlib; MD4 and RIPEMD-160 are not in every OpenSSL.
_DIGESTS = {
    name: name.replace("sha3-", "sha3_")
    for name in (
        "md5", "sha1", "sha224", "sha256", "sha384", "sha512", "sha3-224", "sha3-256", "sha3-384",
        "sha3-512", "blake2b", "blake2s",
    )
}  # fmt: skip


def column_variable(name: str) -> str:
    """Name the variable that holds what stands in a column."""
    return "column_" + re.sub("[^a-z0-9]", "_", name.lower())


class PythonWords(CohortLines):
    """How Python says things."""

    name, title, ending, comment = "python", "Python 3.11", ".py", ""
    empty_lines, line_comment, formula_name = 2, "# ", "_formula_{0}"
    needs: ClassVar[Mapping[str, str]] = {
        "argon2id": "the package argon2-cffi",
        "bcrypt": "the package bcrypt",
        "keyed": "the package cryptography",
    }
    direct = frozenset({"argon2id", "argon2i", "argon2d", "bcrypt", "scrypt", "pbkdf2-sha1",
                        "pbkdf2-sha256", "pbkdf2-sha512"})  # fmt: skip
    on_top = frozenset({"argon2id", "scrypt", "pbkdf2-sha256", "pbkdf2-sha512"})
    writes = on_top | {"bcrypt"}
    below = direct
    crypt: ClassVar[frozenset[str]] = frozenset()
    calls: ClassVar[Mapping[str, str]] = {
        "password": "password",
        "salt": "_salt(way)",
        "login": "_login(way)",
        "key": "self.key_of({0})",
        "part": "_part(way, {0})",
        "number": "_number(way, {0})",
        "utf8": "{0}.encode()",
        "text": "_fit_text({0})",
        "join text": "{0} + {1}",
        "join bytes": "{0} + {1}",
        "cut text": "{0}[{1} : {1} + {2}]",
        "cut bytes": "{0}[{1} : {1} + {2}]",
        "trim": "{0}.strip()",
        "lower": "{0}.lower()",
        "upper": "{0}.upper()",
        "nfc": 'unicodedata.normalize("NFC", {0})',
        "nfd": 'unicodedata.normalize("NFD", {0})',
        "escape-quotes": "_escape_quotes({0})",
        "escape-html": "_escape_html({0})",
        "reverse": "{0}[::-1]",
        "length": "str(len({0}))",
        "double-utf-8": '{0}.encode().decode("latin-1")',
        "encode latin-1": '_encode({0}, "latin-1")',
        "encode windows-1252": '_encode({0}, "cp1252")',
        "encode utf-16le": '_encode({0}, "utf-16-le")',
        "local-part": "_local_part({0})",
        "hex": "{0}.hex()",
        "hex-upper": "{0}.hex().upper()",
        "base64": "base64.b64encode({0}).decode()",
        "base64-unpadded": "_encoded({0})",
        "base64url": "base64.urlsafe_b64encode({0}).decode()",
        "base64url-unpadded": 'base64.urlsafe_b64encode({0}).decode().rstrip("=")',
        "unhex": "_unhex({0})",
        "unbase64": "_unbase64({0})",
        **{f"digest {n}": f"hashlib.{own}({{0}}).digest()" for n, own in _DIGESTS.items()},
        **{f"hmac {n}": f'hmac.digest({{0}}, {{1}}, "{own}")' for n, own in _DIGESTS.items()},
        **{f"pbkdf2 {n}": f'hashlib.pbkdf2_hmac("{own}", {{0}}, {{1}}, {{2}}, {{3}})'
           for n, own in _DIGESTS.items()},
    }  # fmt: skip
    tests: ClassVar[Mapping[str, str]] = {
        "empty": "not {0}",
        "present": "bool({0})",
        "null": "{0} is None",
        "text": "_text_of({0}) == {1}",
        "in": "_text_of({0}) in {1}",
        "number": "_number_in({0}) {1} {2}",
        "equals": "==",
        "before": "_is_before({0}, {1})",
        "from": "_is_from({0}, {1})",
        "length": 'len(_text_of({0}) or "") == {1}',
        "begins": '({0} or b"").startswith({1}.encode())',
    }
    joined: ClassVar[Mapping[bool, str]] = {True: " or ", False: " and "}
    truth: ClassVar[Mapping[bool, str]] = {True: "True", False: "False"}
    shapes: ClassVar[Mapping[str, str]] = {
        "hex": "_canonical_hex(text, {0})",
        "base64": "_canonical_base64(text, {0}, {1})",
        "parts": "_canonical_parts(text, {0}, {1}, is_cut={2})",
    }
    nothing, no_salt, digest_length = "None", "None", "len(value.digest)"
    blocks = "-(-{0} // {1})"
    phrases: ClassVar[Mapping[str, str]] = {
        "is scheme": 'value.scheme == "@SCHEME@"',
        "prepared": (
            'ways.append(_Way(name=@NAME@, formula="@KEY@", value=value, '
            "salt=_bytes_of(row.salt) or b\"\", login=row.login, parts=_parts_of(row)))"
        ),
        "main": ', main="@KEY@"',
        "cohort": "cohort = _Way(name=@NAME@, identity=@IDENTITY@@MAIN@)",
        "fit": "ways += _fitting(cohort, @KEYS@, tried, row, parts)",
        "layout": "pattern = @PATTERN@\napart = _taken_apart(bare, pattern, @CODINGS@, salt)",
        "is apart": "apart is not None",
        "fit apart": "ways += _fitting(cohort, @KEYS@, apart[0], row, {**parts, **apart[1]})",
        "is bare": "", "bare": "",
        "tag": (
            "pattern = @PATTERN@\nfound = pattern.fullmatch(bare)\n"
            "if found:\n"
            '    raw = _decoded(found["data"]) or b""\n'
            "    printed = [(raw[:@SIZE@].hex(), raw[@SIZE@:])]\n"
            "    if len(raw) @SIGN@ @SIZE@:\n"
            '        ways += _fitting(_Way(name="@SCHEME@"), @KEYS@, printed, row, {})\n'
            "    return ways"
        ),
        "fields": (
            "pattern = @PATTERN@\nfound = pattern.fullmatch(bare)\n"
            "if found:\n"
            '    cohort, digest = _Way(name="@SCHEME@"), found["digest"].lower()\n'
            "    return _fitting(cohort, @KEYS@, [(digest, @SALT@)], row, {})"
        ),
        "fields salt": 'bytes.fromhex(found["salt"])',
        "place": (
            "pattern = @PATTERN@\napart@NUMBER@ = pattern.fullmatch(bare)\n"
            "if apart@NUMBER@:\n"
            '    own = apart@NUMBER@["salt"].encode()\n'
            '    tried.append((apart@NUMBER@["digest"].lower(), own))'
        ),
        "own": (
            "if not ways and apart@NUMBER@:\n"
            '    digest, own = apart@NUMBER@["digest"], apart@NUMBER@["salt"].encode()\n'
            "    printed = [(digest.lower(), own)]"
        ),
        "of length": "len(digest) == @LENGTH@",
        "of name": 'apart@NUMBER@["name"] == "@SCHEME@"',
        "own formula": 'ways += _fitting(_Way(name="@SCHEME@"), @KEYS@, printed, row, {})',
        "own end": "",
        "no ways": "not ways",
        "is plain": "_bytes_of(row.stored) == text.encode()\n_is_plain(text)",
        "plain": "ways.append(_Way(name=@NAME@, identity=@IDENTITY@, wanted=text))",
    }  # fmt: skip

    def when(self, parts: Sequence[str], body: Sequence[str]) -> list[str]:
        """Write lines that run where all conditions hold."""
        return [f"if {' and '.join(parts)}:", *(f"    {line}" for line in body)]

    def codes(self, codings: Mapping[str, str]) -> str:
        """Write a constant list of names with what they are written in."""
        return (
            f"{{{', '.join(f'{self.literal(n)}: {self.literal(c)}' for n, c in codings.items())}}}"
        )

    def literal(self, value: str | bytes) -> str:
        """Write a constant text, or bytes."""
        if isinstance(value, bytes):
            return f'bytes.fromhex("{value.hex()}")'
        body = repr('"' + value)[2:-1].replace("\\'", "'")
        if value.count('"') <= value.count("'"):
            return '"' + body.replace('"', '\\"') + '"'
        return "'" + body.replace("'", "\\'") + "'"

    def texts(self, values: Sequence[str]) -> str:
        """Write a constant list of texts, in one line."""
        inside = ", ".join(map(self.literal, values))
        return f"({inside},)" if len(values) == 1 else f"({inside})"

    def pattern(self, pattern: str, *, whole: bool) -> str:  # noqa: ARG002 - as its user matches
        """Write a regular expression; whoever uses it says whether it is for the whole text."""
        return f"re.compile({self.literal(pattern)}, re.ASCII | re.DOTALL)"

    def declared(self, kind: str, code: str) -> str:
        """Write the first assignment to the variable of a kind."""
        return f"{self.variable(kind)} = {code}"

    def assigned(self, kind: str, code: str) -> str:
        """Write a later one."""
        return f"{self.variable(kind)} = {code}"

    def loop(self, times: str, body: Sequence[str]) -> list[str]:
        """Write a loop."""
        return [f"for _ in range({times}):", *(f"    {line}" for line in body)]

    def inner(self, name: str) -> str:
        """Write the call of a function of a bracketed formula."""
        return f"self.{name}(way, password)"

    def inner_name(self, name: str, number: int) -> str:
        """Name the function of a bracketed formula."""
        return f"{name}_part_{number}"

    def content(self, test: Test) -> str:
        """Write what stands in a condition's column."""
        if test.role in {STORED, SALT, LOGIN}:
            return f"_bytes_of(row.{test.role})"
        return column_variable(test.name)

    def vector(self, row: Vector) -> list[str]:
        """Write one row of a test."""
        columns = ", ".join(f"{self.literal(n)}: {self.literal(t)}" for n, t in row.columns.items())
        return [
            f"    {self.literal(row.what)}: Row(",
            f"        stored={self.literal(row.stored)},",
            f"        salt={'None' if row.salt is None else self.literal(row.salt)},",
            f"        login={self.literal(INVENTED_LOGIN)},",
            '        account="1",',
            f"        columns={{{columns}}},",
            "    ),",
        ]

    def usage(self, check: StoreCheck) -> Sequence[str]:
        """Give the lines of its head that show how it is called, with the swap."""
        name = self.class_name(check)
        return (
            f"    login = {name}({'keys' if check.keys else ''})",
            "    answer = login.check(Row(stored=row.pw, login=row.email), password)",
            "    if answer.new_value is not None:",
            "        # UPDATE … SET stored = :new_value WHERE id = :id AND stored = :old_value",
            "",
            "A row that was changed meanwhile is left alone: the login is right all the same. A",
            "new or changed password is stored as `login.new_value(password, name)` gives it.",
        )
