"""Manual pages (man(7)): one of the program, and one of each command, from the parsers."""

from collections.abc import Iterable, Iterator, Mapping

from lean_tumbler.cli.commands import SUMMARIES
from lean_tumbler.cli.main import EXIT_CODES, NAME, build_parser
from lean_tumbler.cli.options import children_of
from reference.commands import (
    VARIABLES,
    meaning,
    options_of,
    written,
)

_PAGES_OF_PROGRAM = ("tumbler.toml", "the policy: stores, cohorts, target and floor")


def manual_pages() -> Mapping[str, str]:
    """Give each page by the name of its file."""
    pages = {f"{NAME}.1": _page_of_program()}
    for command in SUMMARIES:
        pages[f"{NAME}-{command}.1"] = _page_of_command(command)
    return pages


def _page_of_program() -> str:
    parser = build_parser([])
    about = (parser.description or "").strip()
    return _page(
        NAME,
        "audit inherited password stores, and upgrade every account at login",
        [
            ("SYNOPSIS", [f".B {_plain(NAME)}", r"\fICOMMAND\fR [\fIOPTIONS\fR]"]),
            ("DESCRIPTION", [_text(about)]),
            ("COMMANDS", _listed((f"{NAME}-{name}(1)", said) for name, said in SUMMARIES.items())),
            ("OPTIONS", _listed((written(each), meaning(each)) for each in options_of(parser)
                                if each.option_strings)),
            ("EXIT STATUS", _listed((str(code), said) for code, said in EXIT_CODES.items())),
            ("ENVIRONMENT", _listed((name.replace("`", ""), said) for name, said in VARIABLES)),
            ("FILES", _listed([_PAGES_OF_PROGRAM])),
        ],
    )  # fmt: skip


def _page_of_command(command: str) -> str:
    parser = children_of(build_parser([command]))[command]
    children = children_of(parser)
    parts = children or {"": parser}
    synopsis: list[str] = []
    options: list[str] = []
    for name, own in parts.items():
        whole = f"{NAME} {command} {name}".strip()
        arguments = " ".join(written(each) for each in options_of(own) if not each.option_strings)
        synopsis += [".PP", rf"\fB{_plain(whole)}\fR [\fIOPTIONS\fR] {_plain(arguments)}".rstrip()]
        options += [f".SS {_text(whole)}", _text(own.description or "")] if name else []
        options += _listed((written(each), meaning(each)) for each in options_of(own))
    examples = (parser.epilog or "").removeprefix("example:\n").rstrip().splitlines()
    return _page(
        f"{NAME}-{command}",
        SUMMARIES[command],
        [
            ("SYNOPSIS", synopsis),
            ("DESCRIPTION", [_text(parser.description or "")]),
            ("OPTIONS", options),
            ("EXAMPLES", [".nf", *map(_text, examples), ".fi"]),
            ("EXIT STATUS", _listed((str(code), said) for code, said in EXIT_CODES.items())),
            ("SEE ALSO", [rf".BR {_plain(NAME)} (1)"]),
        ],
    )


def _page(name: str, about: str, sections: Iterable[tuple[str, Iterable[str]]]) -> str:
    lines = [f".TH {_plain(name.upper())} 1", ".SH NAME", rf"{_plain(name)} \- {_plain(about)}"]
    for heading, content in sections:
        lines += [f'.SH "{heading}"', *content]
    return "\n".join(line for line in lines if line) + "\n"


def _listed(entries: Iterable[tuple[str, str]]) -> Iterator[str]:
    for term, said in entries:
        yield from (".TP", rf"\fB{_plain(term)}\fR", _text(said))


def _plain(text: str) -> str:
    return text.replace("\\", r"\e").replace("-", r"\-").replace("“", r"\(lq").replace("”", r"\(rq")


def _text(text: str) -> str:
    """Write a text that begins a line: a full stop or an apostrophe there would be a request."""
    return "\n".join(
        rf"\&{line}" if line.startswith((".", "'")) else line for line in _plain(text).splitlines()
    )
