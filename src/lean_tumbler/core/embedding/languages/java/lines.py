"""Long texts of Java, written in several lines."""

import re

_WIDTH = 110
_PIECE = 84
_LEAST = 40
_TEXT = re.compile(r'"((?:[^"\\]|\\.)*)"')
_SIGN = re.compile(r"(?:\\\\){2}|\\\\.|\\u[0-9a-f]{4}|\\.|.", re.DOTALL)


def broken(line: str) -> list[str]:
    """Break the longest text of a line that is too long."""
    if len(line) <= _WIDTH or line.lstrip().startswith(("*", "//")):
        return [line]
    found = max(_TEXT.finditer(line), key=lambda match: len(match[0]), default=None)
    indent = " " * (len(line) - len(line.lstrip()) + 8)
    if found is None or len(found[0]) < _LEAST:
        return _listed(line, indent)
    pieces, piece = [], ""
    for sign in _SIGN.findall(found[1]):
        if len(piece) + len(sign) > _PIECE:
            pieces.append(piece)
            piece = ""
        piece += sign
    first, *others = [f'"{each}"' for each in [*pieces, piece]]
    head, tail = line[: found.start()].rstrip(), line[found.end() :]
    lines = [head, f"{indent}{first}"] if head else [f"{indent[8:]}{first}"]
    lines += [f"{indent}        + {each}" for each in others]
    return [*lines[:-1], lines[-1] + tail]


def _listed(line: str, indent: str) -> list[str]:
    """Break a line behind a comma of its list of texts."""
    place = line.rfind('", "', 0, _WIDTH)
    if place < 0:
        return [line]
    return [line[: place + 2], *broken(f"{indent}{line[place + 3 :]}")]
