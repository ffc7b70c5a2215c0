"""How Ruby says things."""

import re
from collections.abc import Mapping, Sequence
from typing import ClassVar

from lean_tumbler.core.embedding.check import StoreCheck
from lean_tumbler.core.embedding.cohort_lines import CohortLines
from lean_tumbler.core.embedding.formula_code import assignment
from lean_tumbler.core.embedding.languages.ruby.lines import pieces
from lean_tumbler.core.embedding.vectors import INVENTED_LOGIN, Vector
from lean_tumbler.core.reading.conditions import Test
from lean_tumbler.core.reading.rows import LOGIN, SALT, STORED

# Of OpenSSL; MD4 and RIPEMD-160 are not in every build.
_DIGESTS = {
    "md5": "MD5", "sha1": "SHA1", "sha224": "SHA224", "sha256": "SHA256", "sha384": "SHA384",
    "sha512": "SHA512", "sha512-224": "SHA512-224", "sha512-256": "SHA512-256",
    "sha3-224": "SHA3-224", "sha3-256": "SHA3-256", "sha3-384": "SHA3-384",
    "sha3-512": "SHA3-512", "blake2b": "BLAKE2b512", "blake2s": "BLAKE2s256",
}  # fmt: skip
_WIDTH = 120  # Layout/LineLength
_BARE_WORD = re.compile(r"[A-Za-z0-9_]+(?:-[A-Za-z0-9_]+)*")
_KDF = "OpenSSL::KDF.pbkdf2_hmac({{0}}, salt: {{1}}, iterations: {{2}}, length: {{3}}, hash: '{0}')"


class RubyWords(CohortLines):
    """How Ruby says things."""

    name, title, ending, comment = "ruby", "Ruby 3.1", ".rb", "# "
    line_comment, inside, own_inside = "# ", "    ", "  "
    needs: ClassVar[Mapping[str, str]] = {
        "always": "the library openssl, which comes with Ruby",
        "bcrypt": "the package bcrypt",
    }
    direct = frozenset({"bcrypt", "scrypt", "pbkdf2-sha1", "pbkdf2-sha256", "pbkdf2-sha512"})
    on_top = frozenset({"scrypt", "pbkdf2-sha256", "pbkdf2-sha512"})
    writes = on_top | {"bcrypt"}
    below = direct
    stock = frozenset({"bcrypt"})
    crypt = frozenset({"md5-crypt", "sha256-crypt", "sha512-crypt", "des-crypt", "bsdi-crypt"})
    calls: ClassVar[Mapping[str, str]] = {
        "password": "password",
        "salt": "given(way.salt)",
        "login": "given(way.login)",
        "key": "key({0})",
        "part": "part(way, {0})",
        "number": "number(way, {0})",
        "utf8": "{0}.b",
        "text": "text_in({0})",
        "join text": "{0} + {1}",
        "join bytes": "{0} + {1}",
        "cut text": "{0}[{1}, {2}].to_s",
        "cut bytes": "{0}.byteslice({1}, {2}).to_s",
        "trim": "trimmed({0})",
        "lower": "lower({0})",
        "upper": "{0}.upcase",
        "nfc": "{0}.unicode_normalize(:nfc)",
        "nfd": "{0}.unicode_normalize(:nfd)",
        "escape-quotes": "escape_quotes({0})",
        "escape-html": "escape_html({0})",
        "reverse": "{0}.reverse",
        "length": "{0}.length.to_s",
        "double-utf-8": "encoded_twice({0})",
        "encode latin-1": "encode({0}, 'ISO-8859-1')",
        "encode windows-1252": "encode({0}, 'Windows-1252')",
        "encode utf-16le": "encode({0}, 'UTF-16LE')",
        "local-part": "local_part({0})",
        "hex": "hex({0})",
        "hex-upper": "hex({0}).upcase",
        "base64": "base64({0})",
        "base64-unpadded": "base64({0}).delete('=')",
        "base64url": "base64({0}).tr('+/', '-_')",
        "base64url-unpadded": "base64({0}).tr('+/', '-_').delete('=')",
        "unhex": "unhex({0})",
        "unbase64": "given(decoded({0}))",
        **{f"digest {n}": f"OpenSSL::Digest.digest('{own}', {{0}})" for n, own in _DIGESTS.items()},
        **{f"hmac {n}": f"OpenSSL::HMAC.digest('{own}', {{0}}, {{1}})"
           for n, own in _DIGESTS.items()},
        **{f"pbkdf2 {n}": _KDF.format(own) for n, own in _DIGESTS.items()},
    }  # fmt: skip
    tests: ClassVar[Mapping[str, str]] = {
        "empty": "{0}.to_s.empty?",
        "present": "!{0}.to_s.empty?",
        "null": "{0}.nil?",
        "text": "text_of({0}) == {1}",
        "in": "{1}.include?(text_of({0}))",
        "number": "number_in({0}) {1} {2}",
        "equals": "==",
        "before": "before?({0}, {1})",
        "from": "from?({0}, {1})",
        "length": "text_of({0}).to_s.length == {1}",
        "begins": "{0}.to_s.start_with?({1}.b)",
    }
    joined: ClassVar[Mapping[bool, str]] = {True: " || ", False: " && "}
    shapes: ClassVar[Mapping[str, str]] = {
        "hex": "canonical_hex(text, {0})",
        "base64": "canonical_base64(text, {0}, {1})",
        "parts": "canonical_parts(text, {0}, {1}, cut: {2})",
    }
    nothing, no_salt, digest_length = "nil", "nil", "value.digest.bytesize"
    phrases: ClassVar[Mapping[str, str]] = {
        "is scheme": "value.scheme == '@SCHEME@'",
        "prepared": "ways << Way.new(name: @NAME@, formula: '@KEY@', value: value, **inputs)",
        "main": ", main: '@KEY@'",
        "cohort": "cohort = { name: @NAME@, identity: @IDENTITY@@MAIN@ }",
        "fit": "formulas = @KEYS@\nways.concat(fitting(cohort, formulas, tried, row, parts))",
        "layout": "pattern = @PATTERN@\napart = taken_apart(bare, pattern, @CODINGS@, salt)",
        "is apart": "apart",
        "fit apart": (
            "formulas = @KEYS@\nown = parts.merge(apart[:parts])\n"
            "ways.concat(fitting(cohort, formulas, [apart[:tried]], row, own))"
        ),
        "is bare": "@PATTERN@.match?(bare)",
        "bare": (
            "cohort = { name: @NAME@, identity: @IDENTITY@ }\n"
            "ways << Way.new(**cohort, formula: '@SCHEME@', wanted: bare, salt: bare[0, @LENGTH@].b)"
        ),
        "tag": (
            "found = @PATTERN@.match(bare)\n"
            "if found\n"
            "  raw = decoded(found[:data]).to_s\n"
            "  printed = [[hex(raw.byteslice(0, @SIZE@)), raw.byteslice(@SIZE@..).to_s]]\n"
            "  is_whole = raw.bytesize @SIGN@ @SIZE@\n"
            "  return is_whole ? fitting({ name: '@SCHEME@' }, @KEYS@, printed, row, {}) : []\n"
            "end"
        ),
        "fields": (
            "found = @PATTERN@.match(bare)\n"
            "if found\n"
            "  printed = [[found[:digest].downcase, @SALT@]]\n"
            "  return fitting({ name: '@SCHEME@' }, @KEYS@, printed, row, {})\n"
            "end"
        ),
        "fields salt": "[found[:salt]].pack('H*')",
        "place": (
            "own@NUMBER@ = @PATTERN@.match(bare)\n"
            "printed@NUMBER@ = own@NUMBER@ && [own@NUMBER@[:digest].downcase, own@NUMBER@[:salt].b]\n"
            "tried << printed@NUMBER@ if own@NUMBER@"
        ),
        "own": "if ways.empty? && own@NUMBER@",
        "of length": "own@NUMBER@[:digest].length == @LENGTH@",
        "of name": "own@NUMBER@[:name] == '@SCHEME@'",
        "own formula": (
            "cohort = { name: '@SCHEME@' }\n"
            "ways.concat(fitting(cohort, @KEYS@, [printed@NUMBER@], row, {}))"
        ),
        "own end": "end",
        "no ways": "ways.empty?",
        "is plain": "bytes_of(row.stored) == text.b\nplain?(text)",
        "plain": "ways << Way.new(name: @NAME@, identity: @IDENTITY@, wanted: text)",
    }

    def when(self, parts: Sequence[str], body: Sequence[str]) -> list[str]:
        """Write lines that run where all conditions hold."""
        asked = " && ".join(parts)
        line = f"{body[0]} if {asked}"
        if len(body) == 1 and len(line) + 8 <= _WIDTH:
            return [line]
        if len(asked) + 10 > _WIDTH:
            first, *others = parts
            lines = [f"if {first} &&", *(f"   {part} &&" for part in others)]
            lines[-1] = lines[-1].removesuffix(" &&")
        else:
            lines = [f"if {asked}"]
        return [*lines, *(f"  {line}" for line in body), "end"]

    def spelled(self, condition: str) -> str:
        """Write a condition on costs with grouped digits."""
        return grouped(condition)

    def codes(self, codings: Mapping[str, str]) -> str:
        """Write a constant list of names with what they are written in."""
        inside = ", ".join(f"'{name}' => '{coding}'" for name, coding in codings.items())
        return f"{{ {inside} }}" if inside else "{}"

    def literal(self, value: str | bytes) -> str:
        """Write a constant text, or bytes."""
        if isinstance(value, bytes):
            return f"['{value.hex()}'].pack('H*')"
        if value.isprintable() and "'" not in value:
            body = re.sub(r"\\(?=\\|$)", r"\\\\", value)
            return f"'{body}'"
        body = re.sub(r"""["\\]|#(?=[{$@])""", lambda match: "\\" + match[0], value)
        body = "".join(s if s.isprintable() else f"\\u{{{ord(s):x}}}" for s in body)
        return f'"{body}"'

    def texts(self, values: Sequence[str]) -> str:
        """Write a constant list of texts, in one line."""
        if len(values) > 1 and all(map(_BARE_WORD.fullmatch, values)):
            return f"%w[{' '.join(values)}]"
        return f"[{', '.join(map(self.literal, values))}]"

    def pattern(self, pattern: str, *, whole: bool) -> str:
        """Write a regular expression, for the whole text or for a part of it."""
        text = pattern.replace("(?P<", "(?<")
        text = re.sub(r"^\^", r"\\A", text)
        text = re.sub(r"(?<!\\)\$(?=[)|]|$)", r"\\z", text)
        text = re.sub(r"\[(\^?)\\\$", r"[\1$", text)
        text = rf"\A(?:{text})\z" if whole else text
        return f"%r{{{text}}}" if "/" in text else f"/{text}/"

    def declared(self, kind: str, code: str) -> str:
        """Write the first assignment to the variable of a kind."""
        return f"{self.variable(kind)} = {code}"

    def assigned(self, kind: str, code: str) -> str:
        """Write a later one."""
        return assignment(self.variable(kind), code)

    def loop(self, times: str, body: Sequence[str]) -> list[str]:
        """Write a loop."""
        many = times if times.isdigit() else f"({times})"
        return [f"{many}.times do", *(f"  {line}" for line in body), "end"]

    def inner(self, name: str) -> str:
        """Write the call of a function of a bracketed formula."""
        return f"{name}(way, password)"

    def inner_name(self, name: str, number: int) -> str:
        """Name the function of a bracketed formula."""
        return f"{name}_part{number}"

    def content(self, test: Test) -> str:
        """Write what stands in a condition's column."""
        if test.role in {STORED, SALT, LOGIN}:
            return f"bytes_of(row.{test.role})"
        return f"column(row, {self.literal(test.name)})"

    def vector(self, row: Vector) -> list[str]:
        """Write one row of a test."""
        columns = ", ".join(
            f"{self.literal(n)} => {self.literal(t)}" for n, t in row.columns.items()
        )
        return [
            f"    {self.literal(row.what)} => {{",
            *pieces(f"      stored: {self.literal(row.stored)},"),
            f"      salt: {'nil' if row.salt is None else self.literal(row.salt)},",
            f"      login: {self.literal(INVENTED_LOGIN)},",
            "      account: '1',",
            f"      columns: {f'{{ {columns} }}' if columns else '{}'}",
            "    },",
        ]

    def usage(self, check: StoreCheck) -> Sequence[str]:
        """Give the lines of its head that show how it is called, with the swap."""
        name = self.class_name(check)
        return (
            f"    login = {name}.new{'(keys)' if check.keys else ''}",
            f"    answer = login.check({name}::Row.new(stored: row[:pw], login: row[:email]), password)",
            "    if answer.new_value",
            "      # UPDATE … SET stored = :new_value WHERE id = :id AND stored = :old_value",
            "    end",
            "",
            "A row that was changed meanwhile is left alone: the login is right all the same. A",
            "new or changed password is stored as `login.new_value(password, name)` gives it.",
        )


def grouped(code: str) -> str:
    """Write large numbers with an underscore between thousands."""
    return re.sub(r"\b\d{5,}\b", lambda match: f"{int(match[0]):_}", code)
