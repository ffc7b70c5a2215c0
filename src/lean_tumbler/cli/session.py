"""What a command works with: streams, environment and the way out of the program."""

import argparse
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any, BinaryIO, TextIO

from lean_tumbler.errors import UsageError

if TYPE_CHECKING:
    from rich.console import Console

    from lean_tumbler.core.policy import Limits

PIPED_COLUMNS = 110  # a report in a file or a pipe; terminals say their own width
_PROGRESS_AFTER_SECONDS = 2.0


class Session:
    """One run of the program.

    Args:
        stdin: where passwords come from.
        stdout: where results go.
        stderr: where messages and progress go.
    """

    def __init__(self, *, stdin: BinaryIO, stdout: TextIO, stderr: TextIO) -> None:
        self.stdin = stdin
        self.stdout = stdout
        self.stderr = stderr

    @classmethod
    def of_process(cls) -> "Session":
        """Take the process's own streams."""
        return cls(stdin=sys.stdin.buffer, stdout=sys.stdout, stderr=sys.stderr)

    def message(self, text: str) -> None:
        """Say something beside the result, on standard error."""
        print(text, file=self.stderr, flush=True)

    def emit(
        self,
        arguments: argparse.Namespace,
        *,
        document: Callable[[], dict[str, Any]],
        text: Callable[["Console"], None],
    ) -> None:
        """Write the result in the format asked for, to standard output or `--output`."""
        from lean_tumbler.reports.documents import as_json
        from lean_tumbler.stores.files import write_text

        if arguments.format == "json":
            result = as_json(document())
            if arguments.output is None:
                self.stdout.write(result)
                self.stdout.flush()
                return
        else:
            if arguments.output is None:
                text(self._console(self.stdout))
                return
            result = _rendered(text)
        write_text(arguments.output, result)

    def _console(self, stream: TextIO) -> "Console":
        from rich.console import Console

        width = None if stream.isatty() else PIPED_COLUMNS
        return Console(file=stream, highlight=False, width=width, soft_wrap=False)

    @contextmanager
    def progress(self, title: str, total: int) -> Iterator[Callable[[int], None]]:
        """Show a bar on standard error while something takes more than two seconds."""
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
        task = bar.add_task(title, total=total, rate="")

        def advance(rows: int) -> None:
            bar.advance(task, rows)
            current = bar.tasks[0]
            if current.elapsed and current.elapsed > _PROGRESS_AFTER_SECONDS:
                bar.update(task, rate=f"{current.completed / current.elapsed:,.0f} rows/s")
                bar.start()

        try:
            yield advance
        finally:
            bar.stop()

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


def _rendered(text: Callable[["Console"], None]) -> str:
    import io

    from rich.console import Console

    buffer = io.StringIO()
    text(Console(file=buffer, highlight=False, width=PIPED_COLUMNS, no_color=True))
    return buffer.getvalue()
