"""Long lines, broken as Python's formatters break them: at the outermost brackets."""

import re

WIDTH = 100
_LITERAL = re.compile(r""""(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*'""")
_CLOSES = {"(": ")", "[": "]", "{": "}"}


def broken(line: str) -> list[str]:
    """Break a line that is too long; one that cannot be broken stays as it is."""
    if len(line) <= WIDTH or line.lstrip().startswith("#"):
        return [line]
    indent = " " * (len(line) - len(line.lstrip()))
    if line.lstrip().startswith("if ") and line.endswith(":"):
        parts = _split(line.strip()[3:-1], " and ")
        if len(parts) > 1:
            asked = [parts[0], *(f"and {part}" for part in parts[1:])]
            return [f"{indent}if (", *(f"{indent}    {part}" for part in asked), f"{indent}):"]
    place = _outermost(line)
    if place is None:
        return [line]
    start, end = place
    given = [part.strip() for part in _split(line[start + 1 : end], ",") if part.strip()]
    together = f"{indent}    {', '.join(given)}"
    is_call = start > 0 and (line[start - 1].isalnum() or line[start - 1] in "_])")
    inside = [together] if is_call and len(together) <= WIDTH else [
        part for each in given for part in broken(f"{indent}    {each},")
    ]  # fmt: skip
    return [line[: start + 1], *inside, f"{indent}{line[end:]}"]


def _outermost(line: str) -> tuple[int, int] | None:
    """Find the last bracket that opens at the top and closes near the end."""
    depth, start, found = 0, 0, None
    for place, sign in _signs(line):
        if sign in _CLOSES:
            start = place if depth == 0 else start
            depth += 1
        elif sign in _CLOSES.values():
            depth -= 1
            if depth == 0 and place > start + 1:
                found = (start, place)
    return found


def _signs(text: str) -> list[tuple[int, str]]:
    """Give the signs that stand in no literal."""
    covered = [match.span() for match in _LITERAL.finditer(text)]
    return [
        (place, sign)
        for place, sign in enumerate(text)
        if not any(start <= place < end for start, end in covered)
    ]


def _split(text: str, mark: str) -> list[str]:
    """Split at a mark that stands in no bracket and in no literal."""
    free = dict(_signs(text))
    parts, depth, last = [], 0, 0
    for place, sign in free.items():
        depth += (sign in _CLOSES) - (sign in _CLOSES.values())
        if depth == 0 and text.startswith(mark, place):
            parts.append(text[last:place])
            last = place + len(mark)
    return [*parts, text[last:]]
