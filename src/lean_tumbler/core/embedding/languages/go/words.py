"""How Go says things."""

import re
from collections.abc import Mapping, Sequence
from typing import ClassVar

from lean_tumbler.core.embedding.check import StoreCheck
from lean_tumbler.core.embedding.cohort_lines import CohortLines
from lean_tumbler.core.embedding.formula_code import assignment
from lean_tumbler.core.embedding.vectors import INVENTED_LOGIN, Vector
from lean_tumbler.core.reading.conditions import Test
from lean_tumbler.core.reading.rows import LOGIN, SALT, STORED
from lean_tumbler.core.schemes.base import ParsedValue
from lean_tumbler.core.schemes.current.argon2 import OLDER

_DIGESTS = {
    "md4": "md4.New", "md5": "md5.New", "sha1": "sha1.New", "sha224": "sha256.New224",
    "sha256": "sha256.New", "sha384": "sha512.New384", "sha512": "sha512.New",
    "sha512-224": "sha512.New512_224", "sha512-256": "sha512.New512_256",
    "sha3-224": "sha3.New224", "sha3-256": "sha3.New256", "sha3-384": "sha3.New384",
    "sha3-512": "sha3.New512", "ripemd160": "ripemd160.New", "blake2b": "newBlake2b",
    "blake2s": "newBlake2s",
}  # fmt: skip
_SIGN = re.compile(r"[\\\"]|[^ -~]")


class GoWords(CohortLines):
    """How Go says things."""

    name, title, ending, comment = "go", "Go 1.19", ".go", "// "
    inside, own_inside = "\t", "\t"
    needs: ClassVar[Mapping[str, str]] = {
        "always": "the module golang.org/x/text",
        "argon2id": "the module golang.org/x/crypto",
        "bcrypt": "the module golang.org/x/crypto",
        "scrypt": "the module golang.org/x/crypto",
        "pbkdf2": "the module golang.org/x/crypto",
    }
    direct = frozenset({"argon2id", "argon2i", "bcrypt", "scrypt", "pbkdf2-sha1", "pbkdf2-sha256",
                        "pbkdf2-sha512"})  # fmt: skip
    on_top = frozenset({"argon2id", "scrypt", "pbkdf2-sha256", "pbkdf2-sha512"})
    writes = on_top | {"bcrypt"}
    below = direct
    stock = frozenset({"bcrypt"})
    crypt: ClassVar[frozenset[str]] = frozenset()
    calls: ClassVar[Mapping[str, str]] = {
        "password": "password",
        "salt": "given(w.salt)",
        "login": "loginOf(w)",
        "key": "c.key({0})",
        "part": "given(w.parts[{0}])",
        "number": "number(w, {0})",
        "utf8": "[]byte({0})",
        "text": "textIn({0})",
        "join text": "{0} + {1}",
        "join bytes": "joined({0}, {1})",
        "cut text": "cutText({0}, {1}, {2})",
        "cut bytes": "cutBytes({0}, {1}, {2})",
        "trim": "trimmed({0})",
        "lower": "cases.Lower(language.Und).String({0})",
        "upper": "cases.Upper(language.Und).String({0})",
        "nfc": "norm.NFC.String({0})",
        "nfd": "norm.NFD.String({0})",
        "escape-quotes": "escapeQuotes({0})",
        "escape-html": "escapeHTML({0})",
        "reverse": "reversed({0})",
        "length": "strconv.Itoa(utf8.RuneCountInString({0}))",
        "double-utf-8": "encodedTwice({0})",
        "encode latin-1": 'single({0}, "")',
        "encode windows-1252": "single({0}, windows1252)",
        "encode utf-16le": "utf16le({0})",
        "local-part": "localPart({0})",
        "hex": "hex.EncodeToString({0})",
        "hex-upper": "strings.ToUpper(hex.EncodeToString({0}))",
        "base64": "base64.StdEncoding.EncodeToString({0})",
        "base64-unpadded": "base64.RawStdEncoding.EncodeToString({0})",
        "base64url": "base64.URLEncoding.EncodeToString({0})",
        "base64url-unpadded": "base64.RawURLEncoding.EncodeToString({0})",
        "unhex": "unhex({0})",
        "unbase64": "given(decoded({0}))",
        **{f"digest {n}": f"digested({own}, {{0}})" for n, own in _DIGESTS.items()},
        **{f"hmac {n}": f"signed({own}, {{0}}, {{1}})" for n, own in _DIGESTS.items()},
        **{f"pbkdf2 {n}": f"pbkdf2.Key({{0}}, {{1}}, {{2}}, {{3}}, {own})"
           for n, own in _DIGESTS.items()},
    }  # fmt: skip
    tests: ClassVar[Mapping[str, str]] = {
        "empty": "len({0}) == 0",
        "present": "len({0}) > 0",
        "null": "{0} == nil",
        "text": "isTextOf({0}, {1})",
        "in": "isTextOf({0}, {1}...)",
        "number": "numberIn({0}) {1} {2}",
        "equals": "==",
        "before": "isBefore({0}, {1})",
        "from": "isFrom({0}, {1})",
        "length": "lengthOf({0}) == {1}",
        "begins": "bytes.HasPrefix({0}, []byte({1}))",
    }
    joined: ClassVar[Mapping[bool, str]] = {True: " || ", False: " && "}
    shapes: ClassVar[Mapping[str, str]] = {
        "hex": "canonicalHex(text, {0})",
        "base64": "canonicalBase64(text, {0}, {1})",
        "parts": "canonicalParts(text, {0}, {1}, {2})",
    }
    nothing, no_salt, digest_length = "-1", "nil", "int64(len(v.digest))"
    phrases: ClassVar[Mapping[str, str]] = {
        "is scheme": 'v.scheme == "@SCHEME@"',
        "prepared": 'ways = append(ways, prepare(way{name: @NAME@, formula: "@KEY@", value: v}, row))',
        "main": ', main: "@KEY@"',
        "cohort": "",
        "fit": (
            "ways = append(ways, fitting(\n"
            "\tway{name: @NAME@, identity: @IDENTITY@@MAIN@},\n\t@KEYS@,\n\ttried, row, parts,\n"
            ")...)"
        ),
        "layout": "",
        "is apart": "found, own := takenApart(bare, @PATTERN@, @CODINGS@, salt, parts); found != nil",
        "fit apart": (
            "ways = append(ways, fitting(\n"
            "\tway{name: @NAME@, identity: @IDENTITY@@MAIN@},\n\t@KEYS@,\n\tfound, row, own,\n"
            ")...)"
        ),
        "is bare": "", "bare": "",
        "tag": (
            "if found := named(@PATTERN@, bare); found != nil {\n"
            '\traw := decoded(found["data"])\n'
            "\tif len(raw) @SIGN@ @SIZE@ {\n"
            "\t\tof := []printed{{hex.EncodeToString(raw[:@SIZE@]), raw[@SIZE@:]}}\n"
            '\t\treturn fitting(way{name: "@SCHEME@"}, @KEYS@, of, row, nil)\n'
            "\t}\n"
            "\treturn nil\n"
            "}"
        ),
        "fields": (
            "if found := named(@PATTERN@, bare); found != nil {\n"
            '\tof := []printed{{strings.ToLower(found["digest"]), @SALT@}}\n'
            '\treturn fitting(way{name: "@SCHEME@"}, @KEYS@, of, row, nil)\n'
            "}"
        ),
        "fields salt": 'unhex(found["salt"])',
        "place": (
            "own@NUMBER@ := named(@PATTERN@, bare)\n"
            "of@NUMBER@ := []printed{}\n"
            "if own@NUMBER@ != nil {\n"
            '\tof@NUMBER@ = append(of@NUMBER@, printed{strings.ToLower(own@NUMBER@["digest"]), '
            '[]byte(own@NUMBER@["salt"])})\n'
            "\ttried = append(tried, of@NUMBER@...)\n"
            "}"
        ),
        "own": "if len(ways) == 0 && own@NUMBER@ != nil {",
        "of length": 'len(own@NUMBER@["digest"]) == @LENGTH@',
        "of name": 'own@NUMBER@["name"] == "@SCHEME@"',
        "own formula": (
            'ways = append(ways, fitting(way{name: "@SCHEME@"}, @KEYS@, of@NUMBER@, row, nil)...)'
        ),
        "own end": "}",
        "no ways": "len(ways) == 0",
        "is plain": "string(row.Stored) == text\nisPlain(text)",
        "plain": "ways = append(ways, way{name: @NAME@, identity: @IDENTITY@, wanted: text})",
    }  # fmt: skip

    def computes(self, value: ParsedValue, *, is_below: bool) -> bool:  # noqa: ARG002 - alone too
        """Tell whether the module runs a value: Argon2 in version 1.3 (RFC 9106) alone."""
        is_argon2 = value.scheme.startswith("argon2")
        return not is_argon2 or (
            value.contents.variant != OLDER and value.parameters["lanes"] < 256
        )

    def when(self, parts: Sequence[str], body: Sequence[str]) -> list[str]:
        """Write lines that run where all conditions hold."""
        return [f"if {' && '.join(parts)} {{", *(f"\t{line}" for line in body), "}"]

    def spelled(self, condition: str) -> str:
        """Write a condition on costs as the formatter does: without blanks in sums and products."""
        return re.sub(r" (\*|/|\+|-|<<) ", r"\1", condition)

    def codes(self, codings: Mapping[str, str]) -> str:
        """Write a constant list of names with what they are written in."""
        inside = ", ".join(f'"{name}": "{coding}"' for name, coding in codings.items())
        return f"map[string]string{{{inside}}}"

    def literal(self, value: str | bytes) -> str:
        """Write a constant text, or bytes."""
        if isinstance(value, bytes):
            return f"[]byte({self._quoted(value.decode('latin-1'), as_bytes=True)})"
        return self._quoted(value, as_bytes=False)

    @staticmethod
    def _quoted(text: str, *, as_bytes: bool) -> str:
        def escaped(match: re.Match[str]) -> str:
            sign = match[0]
            if sign in '\\"':
                return "\\" + sign
            if as_bytes:
                return f"\\x{ord(sign):02x}"
            return sign if sign.isprintable() else f"\\U{ord(sign):08x}"

        return f'"{_SIGN.sub(escaped, text)}"'

    def texts(self, values: Sequence[str]) -> str:
        """Write a constant list of texts, in one line."""
        return f"[]string{{{', '.join(map(self.literal, values))}}}"

    def numbers(self, values: Sequence[int]) -> str:
        """Write a constant list of numbers."""
        return f"[]int64{{{', '.join(map(str, values))}}}"

    def pattern(self, pattern: str, *, whole: bool) -> str:
        """Write a regular expression, for the whole text or for a part of it."""
        text = rf"(?s)\A(?:{pattern})\z" if whole else f"(?s){pattern}"
        return f"regexp.MustCompile(`{text}`)"

    def signs(self, alphabet: str) -> str:
        """Write what a text in base64 may consist of, as the check of it takes that."""
        return f"regexp.MustCompile(`\\A{alphabet}+\\z`)"

    def declared(self, kind: str, code: str) -> str:
        """Write the first assignment to the variable of a kind."""
        return f"{self.variable(kind)} := {code}"

    def assigned(self, kind: str, code: str) -> str:
        """Write a later one."""
        return assignment(self.variable(kind), code)

    def loop(self, times: str, body: Sequence[str]) -> list[str]:
        """Write a loop."""
        head = f"for round := {times}; round > 0; round-- {{"
        return [head, *(f"\t{line}" for line in body), "}"]

    def inner(self, name: str) -> str:
        """Write the call of a function of a bracketed formula."""
        return f"c.{name}(w, password)"

    def content(self, test: Test) -> str:
        """Write what stands in a condition's column."""
        own = {STORED: "row.Stored", SALT: "row.Salt", LOGIN: "bytesOf(row.Login)"}
        return own.get(test.role) or f"row.Columns[{self.literal(test.name)}]"

    def vector(self, row: Vector) -> list[str]:
        """Write one row of a test."""
        columns = ", ".join(
            f"{self.literal(n)}: []byte({self.literal(t)})" for n, t in row.columns.items()
        )
        salt = "nil" if row.salt is None else f"[]byte({self.literal(row.salt)})"
        return [
            "\t{",
            f"\t\t{self.literal(row.what)},",
            "\t\tRow{",
            f"\t\t\tStored:  []byte({self.literal(row.stored)}),",
            f"\t\t\tSalt:    {salt},",
            f"\t\t\tLogin:   {self.literal(INVENTED_LOGIN)},",
            '\t\t\tAccount: "1",',
            f"\t\t\tColumns: map[string][]byte{{{columns}}},",
            "\t\t},",
            "\t},",
        ]

    def usage(self, check: StoreCheck) -> Sequence[str]:
        """Give the lines of its head that show how it is called, with the swap."""
        return (
            f"    checker := login.New({'keys' if check.keys else 'nil'})",
            "\tanswer, err := checker.Check(login.Row{Stored: row.pw, Login: row.email}, password)",
            '    if err == nil && answer.NewValue != "" {',
            "        // UPDATE … SET stored = :new_value WHERE id = :id AND stored = :old_value",
            "    }",
            "",
            "A row that was changed meanwhile is left alone: the login is right all the same. A new",
            "or changed password is stored as checker.NewValue(password, name, id) gives it.",
        )
