"""What a command works with: streams, the clock, and the way out of the program."""

import io
import os
import sys
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from datetime import UTC, date, datetime
from typing import TYPE_CHECKING, BinaryIO, TextIO, TypeVar

from lean_tumbler.core.printable import printable
from lean_tumbler.errors import UsageError

if TYPE_CHECKING:
    from rich.console import Console

    from lean_tumbler.cli.option_types import ReportOptions
    from lean_tumbler.core.limits import Limits
    from lean_tumbler.reports.documents import Document

D = TypeVar("D", bound="Document")

PIPED_COLUMNS = 120  # a report in a file or a pipe; terminals say their own width
_PROGRESS_AFTER_SECONDS = 2.0


def _local_time() -> datetime:
    return datetime.now().astimezone()


class Session:
    """One run of the program."""

    def __init__(
        self,
        *,
        stdin: BinaryIO,  # where passwords come from
        stdout: TextIO,  # where results go
        stderr: TextIO,  # where messages and progress go
        clock: Callable[[], datetime] = _local_time,  # tells the time, with its zone
    ) -> None:
        self.stdin = stdin
        self.stdout = stdout
        self.stderr = stderr
        self.clock = clock

    def today(self) -> date:
        """Give the day, everywhere the same."""
        return self.clock().astimezone(UTC).date()

    @classmethod
    def of_process(cls) -> "Session":
        """Take the process's own streams; what an encoding lacks is written as its escape."""
        if isinstance(sys.stdout, io.TextIOWrapper):
            sys.stdout.reconfigure(errors="backslashreplace")
        return cls(stdin=sys.stdin.buffer, stdout=sys.stdout, stderr=sys.stderr)

    def message(self, text: str) -> None:
        """Say something beside the result, on standard error."""
        print(printable(text), file=self.stderr, flush=True)

    def emit(
        self,
        options: "ReportOptions",  # parsed options, those of every report among them
        document: D,  # the result
        *,
        # gives it as plain text for a number of columns; quicker than `draw`
        text: Callable[[D, int], str] | None = None,
        draw: Callable[["Console", D], None] | None = None,  # draws it with tables and colours
        # gives it in further formats
        others: Mapping[str, Callable[[], Iterable[str]]] | None = None,
    ) -> None:
        """Write the result in the format asked for, to standard output or `--output`."""
        from lean_tumbler.reports.documents import as_json
        from lean_tumbler.stores.file_access import write_text

        buffer = io.StringIO() if options.output else self.stdout
        if options.format == "json":
            buffer.write(as_json(document))
        elif options.format in (others or {}):
            buffer.writelines(map(printable, (others or {})[options.format]()))
        elif text is not None:
            buffer.write(printable(text(document, self._columns(buffer))))
        elif draw is not None:
            from lean_tumbler.reports.terminal import result_console

            draw(result_console(buffer, columns=self._columns(buffer)), document)
        if isinstance(buffer, io.StringIO) and options.output:
            write_text(options.output, buffer.getvalue())
        else:
            buffer.flush()

    @staticmethod
    def _columns(stream: TextIO) -> int:
        if not stream.isatty():
            wanted = os.environ.get("COLUMNS", "")  # as POSIX has it, for a pipe too
            return int(wanted) if wanted.isdigit() and int(wanted) else PIPED_COLUMNS
        import shutil

        return shutil.get_terminal_size().columns

    @contextmanager
    def progress(
        self, title: str, total: int, *, unit: str = ""
    ) -> Iterator[Callable[[int], None]]:
        """Show a bar on standard error while something takes more than two seconds.

        Args:
            title: what is being done.
            total: how many steps there are; 0 where nobody knows.
            unit: what a step is, for a rate; without it, none is shown.
        """
        if not self.stderr.isatty():
            yield lambda _: None
            return
        from rich.console import Console
        from rich.progress import (
            BarColumn,
            MofNCompleteColumn,
            Progress,
            TextColumn,
            TimeRemainingColumn,
        )

        bar = Progress(
            TextColumn("{task.description}"),
            BarColumn(),
            MofNCompleteColumn(),
            TextColumn("{task.fields[rate]}"),
            TimeRemainingColumn(),
            console=Console(file=self.stderr),
            transient=True,
        )
        task = bar.add_task(title, total=total or None, rate="")

        def advance(rows: int) -> None:
            bar.advance(task, rows)
            current = bar.tasks[0]
            if current.elapsed and current.elapsed > _PROGRESS_AFTER_SECONDS:
                rate = f"{current.completed / current.elapsed:,.0f} {unit}/s" if unit else ""
                bar.update(task, rate=rate)
                bar.start()

        try:
            yield advance
        finally:
            bar.stop()

    def ask(self, question: str) -> str:
        """Ask a question on a terminal; where there is none, the answer is nothing."""
        if not (self.stdin.isatty() and self.stderr.isatty()):
            return ""
        print(question, end="", file=self.stderr, flush=True)
        return self.stdin.readline(100).decode("utf-8", "replace").strip()

    def read_password(self, limits: "Limits", *, confirm: bool = False) -> str:
        """Read one password: a prompt without echo on a terminal, else standard input to its end.

        One line end after the password is not part of it.

        Raises:
            UsageError: it is empty, too long, holds a NUL or is not UTF-8.
        """
        if self.stdin.isatty():
            import getpass

            password = getpass.getpass("Password: ")
            if confirm and getpass.getpass("Again: ") != password:
                raise UsageError("the two passwords differ")
            raw = password.encode("utf-8", "surrogateescape")
        else:
            raw = self.stdin.read(limits.password_bytes + 3)
            raw = raw.removesuffix(b"\n").removesuffix(b"\r")
        if not raw:
            raise UsageError("standard input: no password; give it as one line")
        if len(raw) > limits.password_bytes:
            raise UsageError(
                f"standard input: the password is longer than {limits.password_bytes} bytes "
                "(limits.password_bytes)"
            )
        if b"\0" in raw:
            raise UsageError(f"standard input: a NUL at byte {raw.index(0)} of the password")
        try:
            return raw.decode("utf-8")
        except UnicodeDecodeError as error:
            raise UsageError(f"standard input: not UTF-8 at byte {error.start}") from None
