"""Templates of source files: what is left out, what is put in, and which functions are needed.

A line of `%%` in a template is an instruction:

    %% if FEATURE … [%% else …] %% end     kept where the check has the feature
    %% insert NAME                         the lines of that name
    %% piece NAME … %% end                 kept where something that is kept names it

`@NAME@` within a line is replaced by a text of that name.
"""

import re
from collections.abc import Callable, Iterator, Mapping, Sequence, Set

from msgspec import Struct

_MARK = "%% "
_PLACEHOLDER = re.compile(r"@([A-Z][A-Z0-9_]*)@")


class _Line(Struct, frozen=True):
    text: str
    piece: str = ""  # of which it is; empty for what is always there


def rendered(
    template: str,
    *,
    features: Set[str],
    inserts: Mapping[str, Sequence[str]],
    texts: Mapping[str, str],
    empty_lines: int = 1,
) -> str:
    """Write a source file.

    Args:
        template: its text.
        features: which conditions hold.
        inserts: name -> lines.
        texts: name -> what stands for it.
        empty_lines: that may stand between two others.
    """
    lines = [
        _Line(_PLACEHOLDER.sub(lambda match: texts[match[1]], line.text), line.piece)
        for line in _with_inserts(_kept(template.split("\n"), features), inserts)
    ]
    pieces = dict.fromkeys(line.piece for line in lines if line.piece)
    needed = _needed(lines, tuple(pieces))
    kept = [line.text for line in lines if not line.piece or line.piece in needed]
    return "\n".join(_without_gaps(kept, empty_lines)).rstrip("\n") + "\n"


def _kept(lines: Sequence[str], features: Set[str]) -> Iterator[_Line]:
    """Leave out what belongs to features that do not hold."""
    open_blocks: list[str | bool] = []
    for line in lines:
        word, _, name = (
            line.removeprefix(_MARK).partition(" ") if line.startswith(_MARK) else ("", "", "")
        )
        if word == "if":
            open_blocks.append(all(each in features for each in name.split()))
        elif word == "else":
            open_blocks[-1] = not open_blocks[-1]
        elif word == "piece":
            open_blocks.append(name)
        elif word == "end":
            open_blocks.pop()
        elif False not in open_blocks:
            piece = next((block for block in open_blocks if isinstance(block, str)), "")
            yield _Line(line, piece)


def _with_inserts(lines: Iterator[_Line], inserts: Mapping[str, Sequence[str]]) -> Iterator[_Line]:
    for line in lines:
        if line.text.startswith(_MARK):
            name = line.text.removeprefix(f"{_MARK}insert ")
            yield from (_Line(text, line.piece) for text in inserts[name])
        else:
            yield line


def _needed(lines: Sequence[_Line], pieces: Sequence[str]) -> set[str]:
    """Find the pieces that something which is kept names, one after the other."""
    bodies: dict[str, str] = {"": "\n".join(line.text for line in lines if not line.piece)}
    for piece in pieces:
        bodies[piece] = "\n".join(line.text for line in lines if line.piece == piece)
    words = {
        piece: set(re.findall(r"([A-Za-z_]\w*[?]?)\(", body)) for piece, body in bodies.items()
    }
    needed: set[str] = set()
    asked = [""]
    while asked:
        for piece in words[asked.pop()] & set(pieces) - needed:
            needed.add(piece)
            asked.append(piece)
    return needed


def _without_gaps(lines: Sequence[str], most: int) -> Iterator[str]:
    """Leave out empty lines that are too many, and those before a closing brace."""
    for number, line in enumerate(lines):
        follows = [each.strip() for each in lines[number + 1 : number + 1 + most]]
        is_closing = bool(follows) and follows[0] in {"}", "end"}
        if not line.strip() and (is_closing or (len(follows) == most and not any(follows))):
            continue
        yield line


def filled(items: Sequence[str], *, indent: str, width: int, mark: str = ",") -> list[str]:
    """Write items one after the other in lines of at most some characters."""
    lines: list[str] = []
    line = ""
    for item in items:
        more = f"{line} {item}{mark}" if line else f"{indent}{item}{mark}"
        if line and len(more) > width:
            lines.append(line)
            more = f"{indent}{item}{mark}"
        line = more
    return [*lines, line] if line else lines


def set_apart(
    lines: Sequence[str], pattern: re.Pattern[str], *, name: str, stays: Callable[[str], bool]
) -> tuple[list[str], dict[str, str]]:
    """Put names in the place of what a pattern finds; give the lines, and what was found by name.

    Args:
        lines: of a source file.
        pattern: of what is made once, and not at each call.
        name: with `{0}` for a number from 1.
        stays: tells the lines that are left as they are.
    """
    found: dict[str, str] = {}

    def named(match: re.Match[str]) -> str:
        return found.setdefault(match[0], name.format(len(found) + 1))

    kept = [line if stays(line) else pattern.sub(named, line) for line in lines]
    return kept, {called: text for text, called in found.items()}
