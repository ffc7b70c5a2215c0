"""Values of configuration files: `.env`, ini, properties, YAML and JSON, by their last name."""

import json
import re
from collections.abc import Iterator
from typing import Any

from lean_tumbler.core.code.terms import Constant, SourceLine

_ENDINGS = (".env", ".ini", ".properties", ".yml", ".yaml", ".json", ".cfg", ".conf", ".toml")
_LINE = re.compile(
    r"^\s*(?:export\s+)?[\"']?(?P<name>[A-Za-z_][\w.-]*)[\"']?\s*[:=]\s*(?P<value>\S.*?)\s*,?\s*$"
)
_REFERENCE = re.compile(r"^\$|^!|[{}\[\]|>&*]")
LONGEST_BYTES = 1 << 18


def is_settings(path: str) -> bool:
    """Tell whether a file may be of configuration, by its name."""
    name = path.rpartition("/")[2].lower()
    return name.endswith(_ENDINGS) or name.startswith(".env")


def settings_of(path: str, source: bytes) -> Iterator[tuple[str, Constant]]:
    """Give the texts that a file of configuration sets, by their names."""
    if len(source) > LONGEST_BYTES:
        return
    text = source.decode("utf-8", "replace")
    if path.lower().endswith(".json"):
        yield from _of_json(path, text)
        return
    for number, line in enumerate(text.splitlines(), 1):
        match = _LINE.match(line)
        if match is None or line.lstrip().startswith(("#", ";", "//")):
            continue
        value = match["value"]
        if value[:1] in {"'", '"'}:
            value = value[1:].partition(value[0])[0]
        else:
            value = value.partition(" #")[0].strip()
            if _REFERENCE.search(value):
                continue
        whole = match["name"]
        constant = Constant(value, SourceLine(path, number), whole)
        for name in dict.fromkeys((whole, whole.rpartition(".")[2])):
            yield name, constant


def _of_json(path: str, text: str) -> Iterator[tuple[str, Constant]]:
    try:
        found = json.loads(text)
    except (ValueError, RecursionError):
        return
    waiting: list[tuple[str, Any]] = [("", found)]
    while waiting:
        name, value = waiting.pop()
        if isinstance(value, dict):
            waiting.extend((str(key), each) for key, each in value.items())
        elif isinstance(value, str) and name:
            line = text.count("\n", 0, max(0, text.find(f'"{name}"'))) + 1
            yield name, Constant(value, SourceLine(path, line), name)
