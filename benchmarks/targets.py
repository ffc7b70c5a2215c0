"""What a coverage-guided search tries: each reader of untrusted text, and what to begin with."""

import tempfile
from collections.abc import Callable, Sequence
from pathlib import Path

from lean_tumbler.core.formulas import notation
from lean_tumbler.core.reading.conditions import parse_condition
from lean_tumbler.core.reading.layouts import parse_layout
from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.reading.rows import Row as StoredRow
from lean_tumbler.service.requests import Admit, AdmitValue, read_request
from lean_tumbler.stores.files.base import Unreadable
from lean_tumbler.stores.kinds import tables_at


def _file_reader(name: str) -> Callable[[bytes], object]:
    folder = Path(tempfile.mkdtemp())

    def read(data: bytes) -> object:
        (folder / name).write_bytes(data)
        _, tables = tables_at(name, base=folder)
        return [
            frame.height
            for table in tables
            for frame in table.frames(table.columns[:4], Unreadable())
        ]

    return read


def _text(read: Callable[[str], object]) -> Callable[[bytes], object]:
    return lambda data: read(
        data.decode("utf-8", "surrogateescape" if data[:1] == b"\0" else "ignore")
    )


_READER = RowReader()
# What is searched: its reader, and what to begin with.
TARGETS: dict[str, tuple[Callable[[bytes], object], Sequence[bytes]]] = {
    "values": (
        lambda data: _READER.read(StoredRow(stored=data)),
        [b"$argon2id$v=19$m=256,t=1,p=1$MDEyMzQ1Njc$" + b"A" * 43, b"$over$from=md5-crypt,salt=AA$",
         b"{SSHA}AAAA", b"pbkdf2:sha256:1$a$00", b"$6$rounds=1000$a$"],
    ),
    "formulas": (
        _text(notation.parse),
        [b"utf-8, prepend salt, sha256, 9 times (append salt, sha256), hex",
         b'utf-8, append "--", md5, hex, pbkdf2-sha1 rounds 24 salt:unhex, base64'],
    ),
    "conditions": (
        _text(lambda text: parse_condition(text, roles={"salt": "pw_salt"})),
        [
            b"salt empty and created before 2011-03-01",
            b'made_by in ("desk", "web") and stored length 3',
        ],
    ),
    "layouts": (
        _text(lambda text: parse_layout(text, digest_pattern="[0-9a-f]{32}", digest_is_fixed=True)),
        [b"{salt:base64}/{rounds}/{digest:hex}", b"x{digest}{salt:text}"],
    ),
    "requests": (
        lambda data: (read_request(data, Admit), read_request(data, AdmitValue)),
        [b'{"store": "a", "login": "b", "password": "c"}', b'{"stored": null, "password": "c"}'],
    ),
    "LDIF": (
        _file_reader("a.ldif"),
        [b"version: 1\ndn: uid=a\nuid: a\nuserPassword:: e1NTSEF9\n continued\n\n"],
    ),
    "SQL dumps": (
        _file_reader("a.sql"),
        [b"CREATE TABLE `u` (`id` int, `pw` text);\nINSERT INTO `u` VALUES (1,'a\\'b'),(2,NULL);\n",
         b"COPY public.u (id, pw) FROM stdin;\n1\ta\\tb\n\\.\n"],
    ),
    "CSV": (_file_reader("a.csv"), [b'id,pw\n1,"a ""b"""\n2,\n']),
    "JSON": (_file_reader("a.json"), [b'[{"id": 1, "pw": "a"}, {"id": 2}]', b'{"u": [{"pw": 1}]}']),
    "account lines": (_file_reader("a.shadow"), [b"ada:$6$a$b:19000:0:99999:7:::\n"]),
}  # fmt: skip
