"""A coverage-guided search: `searching.py NAME OPTIONS FOLDER`; an exception of others ends it."""

import sys
from pathlib import Path

import atheris

with atheris.instrument_imports(include=["lean_tumbler"]):
    from lean_tumbler.errors import TumblerError
    from targets import TARGETS


def _search(name: str, folder: Path, options: list[str]) -> None:
    read, beginnings = TARGETS[name]
    for number, beginning in enumerate(beginnings):
        (folder / f"start-{number}").write_bytes(beginning)

    def once(data: bytes) -> None:
        try:
            read(data)
        except TumblerError:
            return

    atheris.Setup([sys.argv[0], *options, str(folder)], once)
    atheris.Fuzz()


if __name__ == "__main__":
    _search(sys.argv[1], Path(sys.argv[-1]), sys.argv[2:-1])
