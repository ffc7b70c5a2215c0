"""How PHP says things."""

import re
from collections.abc import Mapping, Sequence
from typing import ClassVar

from lean_tumbler.core.embedding.check import StoreCheck
from lean_tumbler.core.embedding.cohort_lines import CohortLines
from lean_tumbler.core.embedding.vectors import INVENTED_LOGIN, Vector
from lean_tumbler.core.reading.conditions import Test
from lean_tumbler.core.reading.rows import LOGIN, SALT, STORED
from lean_tumbler.core.schemes.base import ParsedValue
from lean_tumbler.core.schemes.current.argon2 import OLDER

_DIGESTS = {
    name: name.replace("sha512-", "sha512/")
    for name in (
        "md4", "md5", "sha1", "sha224", "sha256", "sha384", "sha512", "sha512-224", "sha512-256",
        "sha3-224", "sha3-256", "sha3-384", "sha3-512", "ripemd160",
    )
}  # fmt: skip
_WIDTH = 110
_LONGEST_LINE = 120  # PSR-12 section 2.3
_LEAST_TEXT = 40
_TEXT = re.compile(r"'(?:[^'\\]|\\.)*'")
_LIST = re.compile(r"( *\$formulas = )\[(.*)\];")
_SIGN = re.compile(r"\\\\\\\\|\\\\.|\\.|.", re.DOTALL)


class PhpWords(CohortLines):
    """How PHP says things."""

    name, title, ending, comment = "php", "PHP 8.2", ".php", " * "
    inside, own_inside = "        ", "    "
    needs: ClassVar[Mapping[str, str]] = {
        "always": "the extensions intl and mbstring",
        "argon2id": "PHP built with Argon2, as distributions build it",
        "keyed": "the extension openssl",
    }
    direct = frozenset({"argon2id", "argon2i", "bcrypt", "pbkdf2-sha1", "pbkdf2-sha256",
                        "pbkdf2-sha512"})  # fmt: skip
    on_top = frozenset({"argon2id", "pbkdf2-sha256", "pbkdf2-sha512"})
    writes = frozenset({"argon2id", "bcrypt", "pbkdf2-sha256", "pbkdf2-sha512"})
    crypt = frozenset({"md5-crypt", "sha256-crypt", "sha512-crypt", "des-crypt", "bsdi-crypt"})
    below = frozenset({"argon2id", "bcrypt", "pbkdf2-sha1", "pbkdf2-sha256", "pbkdf2-sha512"})
    calls: ClassVar[Mapping[str, str]] = {
        "password": "$password",
        "salt": "self::given($way['salt'])",
        "login": "self::given($way['login'])",
        "key": "$this->key({0})",
        "part": "self::part($way, {0})",
        "number": "self::number($way, {0})",
        "utf8": "{0}",
        "text": "self::text({0})",
        "join text": "{0} . {1}",
        "join bytes": "{0} . {1}",
        "cut text": "mb_substr({0}, {1}, {2}, 'UTF-8')",
        "cut bytes": "substr({0}, {1}, {2})",
        "trim": "self::trimmedText({0})",
        "lower": "self::lower({0})",
        "upper": "mb_strtoupper({0}, 'UTF-8')",
        "nfc": r"(string) \Normalizer::normalize({0}, \Normalizer::FORM_C)",
        "nfd": r"(string) \Normalizer::normalize({0}, \Normalizer::FORM_D)",
        "escape-quotes": "addslashes({0})",
        "escape-html": "htmlspecialchars({0}, ENT_COMPAT | ENT_SUBSTITUTE, 'UTF-8')",
        "reverse": "implode('', array_reverse(mb_str_split({0}, 1, 'UTF-8')))",
        "length": "(string) mb_strlen({0}, 'UTF-8')",
        "double-utf-8": "(string) mb_convert_encoding({0}, 'UTF-8', 'ISO-8859-1')",
        "encode latin-1": "self::single({0}, 'ISO-8859-1')",
        "encode windows-1252": "self::single({0}, 'Windows-1252')",
        "encode utf-16le": "(string) mb_convert_encoding({0}, 'UTF-16LE', 'UTF-8')",
        "local-part": "self::localPart({0})",
        "hex": "bin2hex({0})",
        "hex-upper": "strtoupper(bin2hex({0}))",
        "base64": "base64_encode({0})",
        "base64-unpadded": "self::encoded({0})",
        "base64url": "strtr(base64_encode({0}), '+/', '-_')",
        "base64url-unpadded": "strtr(self::encoded({0}), '+/', '-_')",
        "unhex": "self::unhex({0})",
        "unbase64": "self::unbase64({0})",
        **{f"digest {n}": f"hash('{php}', {{0}}, true)" for n, php in _DIGESTS.items()},
        **{f"hmac {n}": f"hash_hmac('{php}', {{1}}, {{0}}, true)" for n, php in _DIGESTS.items()},
        **{f"pbkdf2 {n}": f"hash_pbkdf2('{php}', {{0}}, {{1}}, {{2}}, {{3}}, true)"
           for n, php in _DIGESTS.items()},
    }  # fmt: skip
    tests: ClassVar[Mapping[str, str]] = {
        "empty": "self::isEmptyText({0})",
        "present": "!self::isEmptyText({0})",
        "null": "{0} === null",
        "text": "self::textOf({0}) === {1}",
        "in": "in_array(self::textOf({0}), {1}, true)",
        "number": "self::numberIn({0}) {1} {2}",
        "equals": "===",
        "before": "self::isBefore({0}, {1})",
        "from": "self::isFrom({0}, {1})",
        "length": "mb_strlen((string) self::textOf({0}), 'UTF-8') === {1}",
        "begins": "strpos((string) {0}, {1}) === 0",
    }
    joined: ClassVar[Mapping[bool, str]] = {True: " || ", False: " && "}
    shapes: ClassVar[Mapping[str, str]] = {
        "hex": "self::canonicalHex($text, {0})",
        "base64": "self::canonicalBase64($text, {0}, {1})",
        "parts": "self::canonicalParts($text, {0}, {1}, {2})",
    }
    nothing, no_salt, costs, digest_length = "null", "null", "$costs", "$value['bytes']"
    phrases: ClassVar[Mapping[str, str]] = {
        "is scheme": "$direct['scheme'] === '@SCHEME@'",
        "prepared": (
            "$way = ['name' => @NAME@, 'value' => $direct];\n"
            "$ways[] = $way + ['formula' => '@KEY@'] + $inputs;"
        ),
        "main": ", 'main' => '@KEY@'",
        "cohort": "$cohort = ['name' => @NAME@, 'identity' => @IDENTITY@@MAIN@];",
        "fit": (
            "$formulas = @KEYS@;\n"
            "array_push($ways, ...$this->fitting($cohort, $formulas, $tried, $row, $parts));"
        ),
        "layout": (
            "$pattern = @PATTERN@;\n$apart = self::takenApart($bare, $pattern, @CODINGS@, $salt);"
        ),
        "is apart": "$apart !== null",
        "fit apart": (
            "$own = $apart['parts'] + $parts;\n$formulas = @KEYS@;\n"
            "array_push($ways, ...$this->fitting($cohort, $formulas, $apart['tried'], $row, $own));"
        ),
        "is bare": "preg_match(@PATTERN@, $bare) === 1",
        "bare": (
            "$cohort = ['name' => @NAME@, 'identity' => @IDENTITY@, 'formula' => '@SCHEME@'];\n"
            "$ways[] = $cohort + ['wanted' => $bare, 'salt' => substr($bare, 0, @LENGTH@)];"
        ),
        "tag": (
            "$pattern = @PATTERN@;\n"
            "if (preg_match($pattern, $bare, $found) === 1) {\n"
            "    $raw = (string) self::decoded($found['data']);\n"
            "    $printed = [[bin2hex(substr($raw, 0, @SIZE@)), substr($raw, @SIZE@)]];\n"
            "    return strlen($raw) @SIGN@ @SIZE@\n"
            "        ? $this->fitting(['name' => '@SCHEME@'], @KEYS@, $printed, $row, [])\n"
            "        : [];\n"
            "}"
        ),
        "fields": (
            "$pattern = @PATTERN@;\n"
            "if (preg_match($pattern, $bare, $found) === 1) {\n"
            "    $printed = [[strtolower($found['digest']), @SALT@]];\n"
            "    return $this->fitting(['name' => '@SCHEME@'], @KEYS@, $printed, $row, []);\n"
            "}"
        ),
        "fields salt": "(string) hex2bin($found['salt'])",
        "place": (
            "$pattern = @PATTERN@;\n"
            "$printed@NUMBER@ = [];\n"
            "if (preg_match($pattern, $bare, $own@NUMBER@) === 1) {\n"
            "    $printed@NUMBER@[] = [strtolower($own@NUMBER@['digest']), $own@NUMBER@['salt']];\n"
            "    $tried[] = $printed@NUMBER@[0];\n"
            "}"
        ),
        "own": "if ($ways === [] && $printed@NUMBER@ !== []) {",
        "of length": "strlen($own@NUMBER@['digest']) === @LENGTH@",
        "of name": "$own@NUMBER@['name'] === '@SCHEME@'",
        "own formula": (
            "$cohort = ['name' => '@SCHEME@'];\n"
            "array_push($ways, ...$this->fitting($cohort, @KEYS@, $printed@NUMBER@, $row, []));"
        ),
        "own end": "}",
        "no ways": "$ways === []",
        "is plain": "$text === $row['stored']\nself::isPlain($text)",
        "plain": "$ways[] = ['name' => @NAME@, 'identity' => @IDENTITY@, 'wanted' => $text];",
    }
    blocks = "ceil({0} / {1})"

    def computes(self, value: ParsedValue, *, is_below: bool) -> bool:
        """Tell whether PHP runs a value: below a layer, libsodium has one lane and 16 bytes of salt."""
        if not is_below or not value.scheme.startswith("argon2"):
            return True
        is_new = value.contents.variant != OLDER
        return is_new and value.parameters["lanes"] == 1 and len(value.salt or b"") == 16

    def when(self, parts: Sequence[str], body: Sequence[str]) -> list[str]:
        """Write lines that run where all conditions hold."""
        inside = [f"    {each}" for each in body]
        line = f"if ({' && '.join(parts)}) {{"
        if len(line) + len(self.inside) <= _WIDTH:
            return [line, *inside, "}"]
        asked = [parts[0], *(f"&& {part}" for part in parts[1:])]
        return ["if (", *(f"    {part}" for part in asked), ") {", *inside, "}"]

    def codes(self, codings: Mapping[str, str]) -> str:
        """Write a constant list of names with what they are written in."""
        inside = ", ".join(f"'{name}' => '{coding}'" for name, coding in codings.items())
        return f"[{inside}]"

    def literal(self, value: str | bytes) -> str:
        """Write a constant text, or bytes."""
        raw = value.encode("utf-8", "surrogatepass") if isinstance(value, str) else value
        if all(32 <= byte < 127 for byte in raw) or (
            isinstance(value, str) and value.isprintable()
        ):
            text = raw.decode("utf-8")
            return "'" + text.replace("\\", "\\\\").replace("'", "\\'") + "'"
        return '"' + "".join(f"\\x{byte:02x}" for byte in raw) + '"'

    def texts(self, values: Sequence[str]) -> str:
        """Write a constant list of texts, in one line."""
        return f"[{', '.join(map(self.literal, values))}]"

    def pattern(self, pattern: str, *, whole: bool) -> str:
        """Write a regular expression, for the whole text or for a part of it."""
        text = f"^(?:{pattern})$" if whole else pattern
        return self.literal("/" + text.replace("/", r"\/") + "/Du")

    def signs(self, alphabet: str) -> str:
        """Write what a text in base64 may consist of, as the check of it takes that."""
        return self.literal(alphabet.replace("/", r"\/"))

    def declared(self, kind: str, code: str) -> str:
        """Write the first assignment to the variable of a kind."""
        return f"${kind} = {code};"

    def assigned(self, kind: str, code: str) -> str:
        """Write a later one."""
        return f"${kind} = {code};"

    def variable(self, kind: str) -> str:
        """Name the variable of a kind."""
        return f"${kind}"

    def loop(self, times: str, body: Sequence[str]) -> list[str]:
        """Write a loop."""
        inside = [f"    {line}" for line in body]
        if times.isdigit():
            return [f"for ($round = 0; $round < {times}; $round++) {{", *inside, "}"]
        return [f"for ($rounds = {times}; $rounds > 0; $rounds--) {{", *inside, "}"]

    def inner(self, name: str) -> str:
        """Write the call of a function of a bracketed formula."""
        return f"$this->{name}($way, $password)"

    def content(self, test: Test) -> str:
        """Write what stands in a condition's column."""
        if test.role in {STORED, SALT, LOGIN}:
            return f"$row['{test.role}']"
        return f"($row['columns'][{self.literal(test.name)}] ?? null)"

    def vector(self, row: Vector) -> list[str]:
        """Write one row of a test."""
        columns = ", ".join(
            f"{self.literal(n)} => {self.literal(t)}" for n, t in row.columns.items()
        )
        salt = "null" if row.salt is None else self.literal(row.salt)
        return [
            line
            for whole in (
                f"            {self.literal(row.what)} => [[",
                f"                'stored' => {self.literal(row.stored)},",
                f"                'salt' => {salt},",
                f"                'login' => {self.literal(INVENTED_LOGIN)},",
                "                'account' => '1',",
                f"                'columns' => [{columns}],",
                "            ]],",
            )
            for line in wrapped(whole)
        ]

    def usage(self, check: StoreCheck) -> Sequence[str]:
        """Give the lines of its head that show how it is called, with the swap."""
        name = self.class_name(check)
        keys = "$keys" if check.keys else ""
        return (
            f"    $login = new \\App\\Login\\{name}({keys});",
            "    $answer = $login->check($row, $_POST['password']);",
            "    if ($answer['new_value'] !== null) {",
            "        // UPDATE … SET stored = :new_value WHERE id = :id AND stored = :old_value",
            "    }",
            "",
            "A row that was changed meanwhile is left alone: the login is right all the same. A new",
            "or changed password is stored as `$login->newValue($password, $login_name)` gives it.",
        )


def wrapped(line: str) -> list[str]:
    """Write a long text in several, joined by dots, each in a line."""
    if len(line) <= _LONGEST_LINE:
        return [line]
    indent = " " * (len(line) - len(line.lstrip()))
    listed = _LIST.fullmatch(line)
    if listed:
        items = [f"{indent}    {each}," for each in listed[2].split(", ")]
        return [f"{listed[1]}[", *items, f"{indent}];"]
    found = max(_TEXT.finditer(line), key=lambda match: len(match[0]), default=None)
    if found is None or len(found[0]) < _LEAST_TEXT:
        return [line]
    signs = _SIGN.findall(found[0][1:-1])
    parts, part = [], ""
    for sign in signs:
        if len(part) + len(sign) > _WIDTH - len(indent) - 20:
            parts.append(part)
            part = ""
        part += sign
    parts.append(part)
    head, tail = line[: found.start()], line[found.end() :]
    texts = [f"'{part}'" for part in parts]
    return [
        *([head + texts[0]] if len(head) < 40 else [head.rstrip(), f"{indent}    {texts[0]}"]),
        *(f"{indent}    . {text}" for text in texts[1:-1]),
        f"{indent}    . {texts[-1]}{tail}",
    ]
