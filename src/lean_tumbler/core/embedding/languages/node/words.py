"""How Node.js says things."""

import json
from collections.abc import Mapping, Sequence
from typing import ClassVar

from lean_tumbler.core.embedding.check import StoreCheck
from lean_tumbler.core.embedding.cohort_lines import CohortLines
from lean_tumbler.core.embedding.vectors import INVENTED_LOGIN, Vector
from lean_tumbler.core.reading.conditions import Test
from lean_tumbler.core.reading.rows import LOGIN, SALT, STORED

# Of OpenSSL 3, which has MD4 no longer.
_DIGESTS = {
    "md5": "md5", "sha1": "sha1", "sha224": "sha224", "sha256": "sha256", "sha384": "sha384",
    "sha512": "sha512", "sha512-224": "sha512-224", "sha512-256": "sha512-256",
    "sha3-224": "sha3-224", "sha3-256": "sha3-256", "sha3-384": "sha3-384",
    "sha3-512": "sha3-512", "ripemd160": "ripemd160", "blake2b": "blake2b512",
    "blake2s": "blake2s256",
}  # fmt: skip


class NodeWords(CohortLines):
    """How Node.js says things."""

    name, title, ending, comment = "node", "Node.js 20", ".js", " * "
    inside, own_inside = "  ", "  "
    needs: ClassVar[Mapping[str, str]] = {
        "argon2id": "the package argon2",
        "bcrypt": "the package bcryptjs, version 2 or 3",
    }
    direct = frozenset({"argon2id", "argon2i", "argon2d", "bcrypt", "scrypt", "pbkdf2-sha1",
                        "pbkdf2-sha256", "pbkdf2-sha512"})  # fmt: skip
    on_top = frozenset({"argon2id", "scrypt", "pbkdf2-sha256", "pbkdf2-sha512"})
    writes = on_top | {"bcrypt"}
    below = direct
    crypt: ClassVar[frozenset[str]] = frozenset()
    calls: ClassVar[Mapping[str, str]] = {
        "password": "password",
        "salt": "given(way.salt)",
        "login": "given(way.login)",
        "key": "this.key({0})",
        "part": "part(way, {0})",
        "number": "number(way, {0})",
        "utf8": "Buffer.from({0})",
        "text": "fitText({0})",
        "join text": "{0} + {1}",
        "join bytes": "Buffer.concat([{0}, {1}])",
        "cut text": "cutText({0}, {1}, {2})",
        "cut bytes": "{0}.subarray({1}, {1} + {2})",
        "trim": "trimmed({0})",
        "lower": "{0}.toLowerCase()",
        "upper": "{0}.toUpperCase()",
        "nfc": '{0}.normalize("NFC")',
        "nfd": '{0}.normalize("NFD")',
        "escape-quotes": "escapeQuotes({0})",
        "escape-html": "escapeHtml({0})",
        "reverse": 'Array.from({0}).reverse().join("")',
        "length": "String(Array.from({0}).length)",
        "double-utf-8": 'Buffer.from({0}).toString("latin1")',
        "encode latin-1": 'single({0}, "latin-1")',
        "encode windows-1252": 'single({0}, "windows-1252")',
        "encode utf-16le": 'Buffer.from({0}, "utf16le")',
        "local-part": "localPart({0})",
        "hex": '{0}.toString("hex")',
        "hex-upper": '{0}.toString("hex").toUpperCase()',
        "base64": '{0}.toString("base64")',
        "base64-unpadded": "encoded({0})",
        "base64url": '{0}.toString("base64").replaceAll("+", "-").replaceAll("/", "_")',
        "base64url-unpadded": '{0}.toString("base64url")',
        "unhex": "unhex({0})",
        "unbase64": "unbase64({0})",
        **{f"digest {n}": f'digestOf("{own}", {{0}})' for n, own in _DIGESTS.items()},
        **{f"hmac {n}": f'hmac("{own}", {{0}}, {{1}})' for n, own in _DIGESTS.items()},
        **{f"pbkdf2 {n}": f'await pbkdf2({{0}}, {{1}}, {{2}}, {{3}}, "{own}")'
           for n, own in _DIGESTS.items()},
    }  # fmt: skip
    tests: ClassVar[Mapping[str, str]] = {
        "empty": "isEmpty({0})",
        "present": "!isEmpty({0})",
        "null": "{0} === null",
        "text": "textOf({0}) === {1}",
        "in": '{1}.includes(textOf({0}) ?? "")',
        "number": "numberIn({0}) {1} {2}",
        "equals": "===",
        "before": "isBefore({0}, {1})",
        "from": "isFrom({0}, {1})",
        "length": 'Array.from(textOf({0}) ?? "").length === {1}',
        "begins": '(textOf({0}) ?? "").startsWith({1})',
    }
    joined: ClassVar[Mapping[bool, str]] = {True: " || ", False: " && "}
    shapes: ClassVar[Mapping[str, str]] = {
        "hex": "canonicalHex(text, {0})",
        "base64": "canonicalBase64(text, {0}, {1})",
        "parts": "canonicalParts(text, {0}, {1}, {2})",
    }
    nothing, no_salt, digest_length = "null", "null", "digest.length"
    phrases: ClassVar[Mapping[str, str]] = {
        "is scheme": 'value.scheme === "@SCHEME@"',
        "prepared": (
            'const way = { name: @NAME@, value, formula: "@KEY@" };\nways.push({ ...way, ...inputs });'
        ),
        "main": '\n  main: "@KEY@",',
        "cohort": "const cohort = {\n  name: @NAME@,\n  identity: @IDENTITY@,@MAIN@\n};",
        "fit": "const formulas = @KEYS@;\nways.push(...fitting(cohort, formulas, tried, row, parts));",
        "layout": (
            "const pattern = @PATTERN@;\nconst codings = @CODINGS@;\n"
            "const apart = takenApart(bare, pattern, codings, salt);"
        ),
        "is apart": "apart !== null",
        "fit apart": (
            "const own = new Map([...parts, ...apart.parts]);\nconst formulas = @KEYS@;\n"
            "ways.push(...fitting(cohort, formulas, apart.tried, row, own));"
        ),
        "is bare": "", "bare": "",
        "tag": (
            "const shape@NUMBER@ = @PATTERN@;\n"
            "const tagged@NUMBER@ = shape@NUMBER@.exec(bare);\n"
            "if (tagged@NUMBER@ !== null) {\n"
            "  const raw = decoded(tagged@NUMBER@.groups.data) ?? Buffer.alloc(0);\n"
            '  const digest = raw.toString("hex", 0, @SIZE@);\n'
            "  const printed = [[digest, raw.subarray(@SIZE@)]];\n"
            '  const cohort = { name: "@SCHEME@" };\n'
            "  const found = fitting(cohort, @KEYS@, printed, row, new Map());\n"
            "  return raw.length @SIGN@ @SIZE@ ? found : [];\n"
            "}"
        ),
        "fields": (
            "const form@NUMBER@ = @PATTERN@;\n"
            "const fields@NUMBER@ = form@NUMBER@.exec(bare);\n"
            "if (fields@NUMBER@ !== null) {\n"
            "  const digest = fields@NUMBER@.groups.digest.toLowerCase();\n"
            "  const printed = [[digest, @SALT@]];\n"
            '  return fitting({ name: "@SCHEME@" }, @KEYS@, printed, row, new Map());\n'
            "}"
        ),
        "fields salt": 'Buffer.from(fields@NUMBER@.groups.salt, "hex")',
        "place": (
            "const shape@NUMBER@ = @PATTERN@;\n"
            "const apart@NUMBER@ = shape@NUMBER@.exec(bare);\n"
            "if (apart@NUMBER@ !== null) {\n"
            "  const { digest, salt: own } = apart@NUMBER@.groups;\n"
            "  tried.push([digest.toLowerCase(), Buffer.from(own)]);\n"
            "}"
        ),
        "own": (
            "if (ways.length === 0 && apart@NUMBER@ !== null) {\n"
            "  const { digest, salt: own } = apart@NUMBER@.groups;\n"
            "  const printed = [[digest.toLowerCase(), Buffer.from(own)]];"
        ),
        "of length": "digest.length === @LENGTH@",
        "of name": 'apart@NUMBER@.groups.name === "@SCHEME@"',
        "own formula": (
            'const cohort = { name: "@SCHEME@" };\n'
            "ways.push(...fitting(cohort, @KEYS@, printed, row, new Map()));"
        ),
        "own end": "}",
        "no ways": "ways.length === 0",
        "is plain": "isText(row.stored)\nisPlain(text)",
        "plain": (
            "const cohort = {\n  name: @NAME@,\n  identity: @IDENTITY@,@MAIN@\n};\n"
            "ways.push({ ...cohort, wanted: text });"
        ),
    }  # fmt: skip
    power_of_two, blocks = "2 ** {0}", "Math.ceil({0} / {1})"

    def when(self, parts: Sequence[str], body: Sequence[str]) -> list[str]:
        """Write lines that run where all conditions hold."""
        line = f"if ({' && '.join(parts)}) {{"
        inside = [f"  {each}" for each in body]
        if len(line) + len(self.inside) <= 100:
            return [line, *inside, "}"]
        asked = [*(f"{part} &&" for part in parts[:-1]), parts[-1]]
        return ["if (", *(f"  {part}" for part in asked), ") {", *inside, "}"]

    def alone(self, body: Sequence[str]) -> list[str]:
        """Write lines that run always, and whose names are their own."""
        return ["{", *(f"  {line}" for line in body), "}"]

    def codes(self, codings: Mapping[str, str]) -> str:
        """Write a constant list of names with what they are written in."""
        return self.literal(" ".join(f"{name}:{coding}" for name, coding in codings.items()))

    def literal(self, value: str | bytes) -> str:
        """Write a constant text, or bytes."""
        if isinstance(value, bytes):
            return f'Buffer.from("{value.hex()}", "hex")'
        if '"' in value and "'" not in value and "\\" not in value and value.isprintable():
            return f"'{value}'"
        return json.dumps(value, ensure_ascii=False)

    def texts(self, values: Sequence[str]) -> str:
        """Write a constant list of texts, in one line."""
        return f"[{', '.join(map(self.literal, values))}]"

    def pattern(self, pattern: str, *, whole: bool) -> str:
        """Write a regular expression, for the whole text or for a part of it."""
        own = pattern.replace("(?P<", "(?<").replace("(?s:.*)", "[^]*").replace("(?s:.)", "[^]")
        text = f"^(?:{own})$" if whole else own
        return f'new RegExp({self.literal(text)}, "s")'

    def signs(self, alphabet: str) -> str:
        """Write what a text in base64 may consist of, as the check of it takes that."""
        return f"/^{alphabet}+$/"

    def declared(self, kind: str, code: str) -> str:
        """Write the first assignment to the variable of a kind."""
        return f"let {kind} = {code};"

    def assigned(self, kind: str, code: str) -> str:
        """Write a later one."""
        return f"{kind} = {code};"

    def variable(self, kind: str) -> str:
        """Name the variable of a kind."""
        return kind

    def loop(self, times: str, body: Sequence[str]) -> list[str]:
        """Write a loop."""
        inside = [f"  {line}" for line in body]
        return [f"for (let rounds = {times}; rounds > 0; rounds -= 1) {{", *inside, "}"]

    def inner(self, name: str) -> str:
        """Write the call of a function of a bracketed formula."""
        return f"await this.{name}(way, password)"

    def content(self, test: Test) -> str:
        """Write what stands in a condition's column."""
        if test.role in {STORED, SALT, LOGIN}:
            return f"row.{test.role}"
        return f"column(row, {self.literal(test.name)})"

    def vector(self, row: Vector) -> list[str]:
        """Write one row of a test."""
        columns = ", ".join(f"{self.literal(n)}: {self.literal(t)}" for n, t in row.columns.items())
        salt = "null" if row.salt is None else self.literal(row.salt)
        return [
            "  [",
            f"    {self.literal(row.what)},",
            "    {",
            f"      stored:\n        {self.literal(row.stored)},",
            f"      salt: {salt},",
            f"      login: {self.literal(INVENTED_LOGIN)},",
            '      account: "1",',
            f"      columns: {{ {columns} }}," if columns else "      columns: {},",
            "    },",
            "  ],",
        ]

    def usage(self, check: StoreCheck) -> Sequence[str]:
        """Give the lines of its head that show how it is called, with the swap."""
        name = self.class_name(check)
        return (
            f"    const login = new {name}({'keys' if check.keys else ''});",
            "    const answer = await login.check(row, password);",
            "    if (answer.newValue !== null) {",
            "      // UPDATE … SET stored = :newValue WHERE id = :id AND stored = :oldValue",
            "    }",
            "",
            "A row that was changed meanwhile is left alone: the login is right all the same. A",
            "new or changed password is stored as `login.newValue(password, name)` gives it.",
        )
