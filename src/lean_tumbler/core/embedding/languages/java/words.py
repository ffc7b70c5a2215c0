"""How Java says things."""

import re
from collections.abc import Mapping, Sequence
from typing import ClassVar

from lean_tumbler.core.embedding.check import StoreCheck
from lean_tumbler.core.embedding.cohort_lines import CohortLines
from lean_tumbler.core.embedding.vectors import INVENTED_LOGIN, Vector
from lean_tumbler.core.reading.conditions import Test
from lean_tumbler.core.reading.rows import LOGIN, SALT, STORED

# The digests of Bouncy Castle, which take bytes.
_DIGESTS = {
    "md4": "MD4Digest()", "md5": "MD5Digest()", "sha1": "SHA1Digest()",
    "sha224": "SHA224Digest()", "sha256": "SHA256Digest()", "sha384": "SHA384Digest()",
    "sha512": "SHA512Digest()", "sha512-224": "SHA512tDigest(224)",
    "sha512-256": "SHA512tDigest(256)", "sha3-224": "SHA3Digest(224)",
    "sha3-256": "SHA3Digest(256)", "sha3-384": "SHA3Digest(384)", "sha3-512": "SHA3Digest(512)",
    "ripemd160": "RIPEMD160Digest()", "blake2b": "Blake2bDigest(512)",
    "blake2s": "Blake2sDigest(256)",
}  # fmt: skip
_SIGN = re.compile(r"[\\\"]|[^ -~]")
_WAY = "new Way(@NAME@, @IDENTITY@@MAIN@)"


class JavaWords(CohortLines):
    """How Java says things."""

    name, title, ending, comment = "java", "Java 17", ".java", " * "
    inside, own_inside = "        ", "    "
    needs: ClassVar[Mapping[str, str]] = {"always": "the library bcprov of Bouncy Castle"}
    direct = frozenset({"argon2id", "argon2i", "argon2d", "bcrypt", "scrypt", "pbkdf2-sha1",
                        "pbkdf2-sha256", "pbkdf2-sha512"})  # fmt: skip
    on_top = frozenset({"argon2id", "scrypt", "pbkdf2-sha256", "pbkdf2-sha512"})
    writes = on_top | {"bcrypt"}
    below = direct
    stock = frozenset({"bcrypt"})
    crypt: ClassVar[frozenset[str]] = frozenset()
    calls: ClassVar[Mapping[str, str]] = {
        "password": "password",
        "salt": "given(way.salt)",
        "login": "given(way.login)",
        "key": "key({0})",
        "part": "given(way.parts.get({0}))",
        "number": "number(way, {0})",
        "utf8": "utf8({0})",
        "text": "textIn({0})",
        "join text": "{0} + {1}",
        "join bytes": "joined({0}, {1})",
        "cut text": "cutText({0}, {1}, {2})",
        "cut bytes": "cutBytes({0}, {1}, {2})",
        "trim": "trimmed({0})",
        "lower": "{0}.toLowerCase(Locale.ROOT)",
        "upper": "{0}.toUpperCase(Locale.ROOT)",
        "nfc": "Normalizer.normalize({0}, Normalizer.Form.NFC)",
        "nfd": "Normalizer.normalize({0}, Normalizer.Form.NFD)",
        "escape-quotes": "escapeQuotes({0})",
        "escape-html": "escapeHtml({0})",
        "reverse": "new StringBuilder({0}).reverse().toString()",
        "length": "String.valueOf({0}.codePointCount(0, {0}.length()))",
        "double-utf-8": "new String(utf8({0}), StandardCharsets.ISO_8859_1)",
        "encode latin-1": "encode({0}, StandardCharsets.ISO_8859_1)",
        "encode windows-1252": 'encode({0}, Charset.forName("windows-1252"))',
        "encode utf-16le": "encode({0}, StandardCharsets.UTF_16LE)",
        "local-part": "localPart({0})",
        "hex": "hex({0})",
        "hex-upper": "hex({0}).toUpperCase(Locale.ROOT)",
        "base64": "Base64.getEncoder().encodeToString({0})",
        "base64-unpadded": "encoded({0})",
        "base64url": "Base64.getUrlEncoder().encodeToString({0})",
        "base64url-unpadded": "Base64.getUrlEncoder().withoutPadding().encodeToString({0})",
        "unhex": "unhex({0})",
        "unbase64": "given(decoded({0}))",
        **{f"digest {n}": f"digested(new {own}, {{0}})" for n, own in _DIGESTS.items()},
        **{f"hmac {n}": f"signed(new {own}, {{0}}, {{1}})" for n, own in _DIGESTS.items()},
        **{f"pbkdf2 {n}": f"stretched(new {own}, {{0}}, {{1}}, {{2}}, {{3}})"
           for n, own in _DIGESTS.items()},
    }  # fmt: skip
    tests: ClassVar[Mapping[str, str]] = {
        "empty": "isEmpty({0})",
        "present": "!isEmpty({0})",
        "null": "{0} == null",
        "text": "isTextOf({0}, List.of({1}))",
        "in": "isTextOf({0}, {1})",
        "number": "numberIn({0}) {1} {2}",
        "equals": "==",
        "before": "isBefore({0}, {1})",
        "from": "isFrom({0}, {1})",
        "length": "lengthOf({0}) == {1}",
        "begins": "startsWith({0}, {1})",
    }
    joined: ClassVar[Mapping[bool, str]] = {True: " || ", False: " && "}
    shapes: ClassVar[Mapping[str, str]] = {
        "hex": "canonicalHex(text, {0})",
        "base64": "canonicalBase64(text, {0}, {1})",
        "parts": "canonicalParts(text, {0}, {1}, {2})",
    }
    nothing, no_salt, digest_length = "-1", "null", "value.digest().length"
    power_of_two = "(1L << {0})"
    phrases: ClassVar[Mapping[str, str]] = {
        "is scheme": 'value.scheme().equals("@SCHEME@")',
        "prepared": 'ways.add(prepare(new Way(@NAME@, ""), "@KEY@", value, row));',
        "main": ', "@KEY@"',
        "cohort": "",
        "fit": f"ways.addAll(fitting(\n        {_WAY},\n        @KEYS@,\n        tried, row, parts));",
        "layout": "apart = takenApart(bare, @PATTERN@, @CODINGS@, salt, parts);",
        "is apart": "apart != null",
        "fit apart": (
            f"ways.addAll(fitting(\n        {_WAY},\n        @KEYS@,\n"
            "        List.of(apart.printed()), row, apart.parts()));"
        ),
        "is bare": "", "bare": "",
        "tag": (
            "found = @PATTERN@.matcher(bare);\n"
            "if (found.matches()) {\n"
            '    byte[] raw = given(decoded(found.group("data")));\n'
            "    if (raw.length @SIGN@ @SIZE@) {\n"
            "        byte[] rest = Arrays.copyOfRange(raw, @SIZE@, raw.length);\n"
            "        Printed printed = new Printed(hex(Arrays.copyOf(raw, @SIZE@)), rest);\n"
            '        return fitting(new Way("@SCHEME@", ""), @KEYS@, List.of(printed), row, Map.of());\n'
            "    }\n"
            "    return List.of();\n"
            "}"
        ),
        "fields": (
            "found = @PATTERN@.matcher(bare);\n"
            "if (found.matches()) {\n"
            '    String digest = found.group("digest").toLowerCase(Locale.ROOT);\n'
            "    Printed printed = new Printed(digest, @SALT@);\n"
            '    return fitting(new Way("@SCHEME@", ""), @KEYS@, List.of(printed), row, Map.of());\n'
            "}"
        ),
        "fields salt": 'unhex(found.group("salt"))',
        "place": (
            "Matcher own@NUMBER@ = @PATTERN@.matcher(bare);\n"
            "List<Printed> printed@NUMBER@ = new ArrayList<>();\n"
            "if (own@NUMBER@.matches()) {\n"
            '    String digest = own@NUMBER@.group("digest").toLowerCase(Locale.ROOT);\n'
            '    printed@NUMBER@.add(new Printed(digest, utf8(own@NUMBER@.group("salt"))));\n'
            "    tried.addAll(printed@NUMBER@);\n"
            "}"
        ),
        "own": "if (ways.isEmpty() && !printed@NUMBER@.isEmpty()) {",
        "of length": "printed@NUMBER@.get(0).text().length() == @LENGTH@",
        "of name": 'own@NUMBER@.group("name").equals("@SCHEME@")',
        "own formula": (
            'ways.addAll(fitting(new Way("@SCHEME@", ""), @KEYS@, printed@NUMBER@, row, Map.of()));'
        ),
        "own end": "}",
        "no ways": "ways.isEmpty()",
        "is plain": "Arrays.equals(row.stored(), utf8(text))\nisPlain(text)",
        "plain": "ways.add(plain(new Way(@NAME@, @IDENTITY@), text));",
    }  # fmt: skip

    def when(self, parts: Sequence[str], body: Sequence[str]) -> list[str]:
        """Write lines that run where all conditions hold."""
        inside = [f"    {line}" for line in body]
        line = f"if ({' && '.join(parts)}) {{"
        if len(line) <= 96:
            return [line, *inside, "}"]
        others = [f"        && {part}" for part in parts[1:]]
        return [f"if ({parts[0]}", *others[:-1], f"{others[-1]}) {{", *inside, "}"]

    def as_strong(self, check: StoreCheck) -> str:
        """Write whether costs within the limits are at least the target's, a condition a line."""
        return super().as_strong(check).replace(" && ", "\n                && ")

    def codes(self, codings: Mapping[str, str]) -> str:
        """Write a constant list of names with what they are written in."""
        inside = ", ".join(f'"{name}", "{coding}"' for name, coding in codings.items())
        return f"Map.of({inside})"

    def literal(self, value: str | bytes) -> str:
        """Write a constant text, or bytes."""
        if isinstance(value, bytes):
            return f'unhex("{value.hex()}")'

        def escaped(match: re.Match[str]) -> str:
            sign = match[0]
            if sign in '\\"':
                return "\\" + sign
            units = sign.encode("utf-16-be").hex()
            return sign if sign.isprintable() else "".join(
                f"\\u{units[start : start + 4]}" for start in range(0, len(units), 4)
            )  # fmt: skip

        return f'"{_SIGN.sub(escaped, value)}"'

    def texts(self, values: Sequence[str]) -> str:
        """Write a constant list of texts, in one line."""
        return f"List.of({', '.join(map(self.literal, values))})"

    def numbers(self, values: Sequence[int]) -> str:
        """Write a constant list of numbers."""
        return f"new long[] {{{', '.join(f'{value}L' for value in values)}}}"

    def pattern(self, pattern: str, *, whole: bool) -> str:
        """Write a regular expression, for the whole text or for a part of it."""
        text = re.sub(r"\(\?P<(\w+)>", lambda match: f"(?<{match[1].replace('_', '')}>", pattern)
        text = re.sub(r"(?<!\\)\$(?=[)|]|$)", r"\\z", text)
        text = rf"\A(?:{text})\z" if whole else text
        return f"Pattern.compile({self.literal(text)}, Pattern.DOTALL)"

    def signs(self, alphabet: str) -> str:
        """Write what a text in base64 may consist of, as the check of it takes that."""
        return f"Pattern.compile({self.literal(f'{alphabet}+')}, Pattern.DOTALL)"

    def declared(self, kind: str, code: str) -> str:
        """Write the first assignment to the variable of a kind."""
        return f"{ {'text': 'String', 'bytes': 'byte[]'}[kind] } {self.variable(kind)} = {code};"

    def assigned(self, kind: str, code: str) -> str:
        """Write a later one."""
        return f"{self.variable(kind)} = {code};"

    def loop(self, times: str, body: Sequence[str]) -> list[str]:
        """Write a loop."""
        head = f"for (int round = {times}; round > 0; round--) {{"
        return [head, *(f"    {line}" for line in body), "}"]

    def inner(self, name: str) -> str:
        """Write the call of a function of a bracketed formula."""
        return f"{name}(way, password)"

    def content(self, test: Test) -> str:
        """Write what stands in a condition's column."""
        own = {STORED: "row.stored()", SALT: "row.salt()", LOGIN: "bytesOf(row.login())"}
        return own.get(test.role) or f"row.columns().get({self.literal(test.name)})"

    def vector(self, row: Vector) -> list[str]:
        """Write one row of a test."""
        columns = ", ".join(f"{self.literal(n)}, utf8({self.literal(t)})"
                            for n, t in row.columns.items())  # fmt: skip
        salt = "null" if row.salt is None else f"utf8({self.literal(row.salt)})"
        return [
            f"        rows.put({self.literal(row.what)}, new @CLASS@.Row(",
            f"                utf8({self.literal(row.stored)}),",
            f"                {salt},",
            f"                {self.literal(INVENTED_LOGIN)},",
            '                "1",',
            f"                Map.of({columns})));",
        ]

    def usage(self, check: StoreCheck) -> Sequence[str]:
        """Give the lines of its head that show how it is called, with the swap."""
        name = self.class_name(check)
        return (
            f"    {name} login = new {name}({'keys' if check.keys else 'Map.of()'});",
            f"    {name}.Answer answer = login.check(row, password);",
            "    if (answer.newValue() != null) {",
            "        // UPDATE … SET stored = :new_value WHERE id = :id AND stored = :old_value",
            "    }",
            "",
            "A row that was changed meanwhile is left alone: the login is right all the same. A",
            "new or changed password is stored as login.newValue(password, name, id) gives it.",
        )
