"""Long lines of Ruby, broken: patterns into pieces of text, calls at their brackets."""

import re

from lean_tumbler.core.embedding.rendering import filled

WIDTH = 120  # Layout/LineLength
_PIECE = 90
_PATTERN = re.compile(r"%r\{(.*)\}|/((?:[^/\\]|\\.)+)/")
_CALL = re.compile(r"(.*?[\w?!])\((.*)\)([^()]*)", re.DOTALL)
_WORDS = re.compile(r"(.*)%w\[([^\]]*)\](.*)")
_TEXT = re.compile(r"( *(?:\w+: )?)'(.*)'(,?)")


def broken(line: str) -> list[str]:
    """Break a line that is too long; one that cannot be broken stays as it is."""
    if len(line) <= WIDTH or line.lstrip().startswith("#"):
        return [line]
    indent = " " * (len(line) - len(line.lstrip()))
    found = _PATTERN.search(line)
    if found and len(found[0]) > _PIECE:
        pieces = _pieces(found[1] or found[2])
        head, tail = line[: found.start()], line[found.end() :]
        texts = [f"{indent}  '{piece}' \\" for piece in pieces]
        return [
            f"{head}Regexp.new(",
            *texts[:-1],
            texts[-1].removesuffix(" \\"),
            f"{indent}){tail}",
        ]
    words = _WORDS.fullmatch(line)
    if words:
        inside = filled(words[2].split(), indent=f"{indent}  ", width=WIDTH, mark="")
        return [f"{words[1]}%w[", *inside, f"{indent}]{words[3]}"]
    call = _CALL.fullmatch(line)
    if call is None:
        return [line]
    return [f"{call[1]}(", *broken(f"{indent}  {call[2]}"), f"{indent}){call[3]}"]


def pieces(line: str) -> list[str]:
    """Break a line that is one text in single quotes, with or without a name."""
    found = _TEXT.fullmatch(line)
    if len(line) <= WIDTH or found is None:
        return [line]
    parts = _pieces(found[2])
    indent = " " * len(found[1])
    lines = [f"{indent}'{part}' \\" for part in parts]
    lines[0] = found[1] + lines[0].lstrip()
    return [*lines[:-1], f"{indent}'{parts[-1]}'{found[3]}"]


def _pieces(pattern: str) -> list[str]:
    """Split a pattern between its signs, written as texts in single quotes."""
    signs = re.findall(r"\\.|.", pattern, re.DOTALL)
    pieces, piece = [], ""
    for sign in signs:
        written = {"'": "\\'", "\\\\": "\\\\\\\\"}.get(sign, sign)
        if len(piece) + len(written) > _PIECE:
            pieces.append(piece)
            piece = ""
        piece += written
    return [*pieces, piece]
