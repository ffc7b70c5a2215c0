"""Results for a person: the thing that matters first, then the details, then the next step."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from rich import box
from rich.markup import escape
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from lean_tumbler.core.audit.findings import Finding, Severity
from lean_tumbler.core.grades import BELOW_FLOOR, MEANING, Grade
from lean_tumbler.core.outcome import Action, Outcome
from lean_tumbler.core.schemes.base import Kind, ParsedValue
from lean_tumbler.core.tuning.choosing import Choice, guesses_per_second

if TYPE_CHECKING:
    from collections.abc import Iterable

    from rich.console import Console

    from lean_tumbler.core.audit.results import Profile
    from lean_tumbler.core.tuning.measuring import Measurement
    from lean_tumbler.operations.auditing import Audit, AuditedColumn
    from lean_tumbler.operations.layering import LayeringSummary
    from lean_tumbler.operations.verification import CheckedAccount

_GRADE_STYLES = {
    Grade.READABLE: "bold red",
    Grade.FAST_UNSALTED: "red",
    Grade.FAST_SALTED: "yellow",
    Grade.OUTDATED: "yellow",
    Grade.LAYERED: "cyan",
    Grade.CURRENT: "green",
    Grade.LOCKED: "dim",
    Grade.UNKNOWN: "magenta",
}
_SEVERITY_STYLES = {
    Severity.CRITICAL: "bold red",
    Severity.HIGH: "red",
    Severity.MEDIUM: "yellow",
    Severity.LOW: "dim",
}
_BAR_CHARACTERS = 30


def count(number: int, noun: str) -> str:
    """Write a number with its noun: `1 account`, `2 accounts`."""
    return f"{number:,} {noun}" if number == 1 else f"{number:,} {noun}s"


def costs(parameters: Iterable[tuple[str, int]]) -> str:
    """Write parameters as the policy names them."""
    return ", ".join(f"{name} {number:,}" for name, number in parameters)


def _table(*headings: str, right: tuple[int, ...] = ()) -> Table:
    table = Table(box=box.SIMPLE_HEAD, pad_edge=False, header_style="bold", expand=False)
    for index, heading in enumerate(headings):
        table.add_column(
            heading, justify="right" if index in right else "left", no_wrap=index in right
        )
    return table


def _bar(rows: int, total: int, style: str) -> Text:
    length = round(_BAR_CHARACTERS * rows / total) if total else 0
    return Text("█" * max(length, 1 if rows else 0), style=style)


def _grades(profile: Profile) -> Table:
    table = _table("grade", "rows", "share", "", "meaning", right=(1, 2))
    for grade, rows in profile.grades.items():
        style = _GRADE_STYLES[grade]
        share = f"{100 * rows / profile.rows:.1f} %"
        table.add_row(
            Text(grade, style=style),
            f"{rows:,}",
            share,
            _bar(rows, profile.rows, style),
            MEANING[grade],
        )
    if profile.without_value:
        rows = profile.without_value
        table.add_row("(none)", f"{rows:,}", f"{100 * rows / profile.rows:.1f} %", "", "no value")
    return table


def _headline(column: AuditedColumn) -> Text:
    profile = column.profile
    weak = profile.below_floor
    place = f"{column.table}.{column.column}"
    if weak == 0:
        text = Text(f"{place}: no account of {profile.rows:,} is below the floor.", "bold green")
    else:
        privileged = sum(
            affected.privileged_rows
            for reading, affected in profile.groups.items()
            if reading.grade in BELOW_FLOOR
        )
        whom = f", {count(privileged, 'administrator')} among them" if privileged else ""
        text = Text(f"{place}: {weak:,} of {profile.rows:,} accounts are below the floor{whom}.")
        text.stylize("bold")
    return text


def _reference(accounts: list[Any], privileged: int) -> str:
    admins = ", ".join(str(account) for account in accounts[:privileged])
    others = ", ".join(str(account) for account in accounts[privileged:])
    parts = [f"administrators {admins}" if admins else "", others]
    return "; ".join(part for part in parts if part)


def _finding(console: Console, finding: Finding) -> None:
    head = Text.assemble(
        (f"{finding.severity:<9}", _SEVERITY_STYLES[finding.severity]),
        (finding.code, "bold"),
        f"  {count(finding.rows, 'row')}",
    )
    console.print(head)
    more = " …" if finding.rows > len(finding.accounts) else ""
    details = Table.grid(padding=(0, 1))
    for label, value in (
        ("means", finding.summary),
        ("evidence", finding.evidence),
        ("accounts", _reference(finding.accounts, finding.privileged_accounts) + more),
        ("breaks", finding.breaks),
        ("remedy", finding.remedy),
    ):
        details.add_row(Text(label, "dim"), Text(value))
    console.print(Padding(details, (0, 0, 1, 9)))


def _groups(profile: Profile) -> Table:
    table = _table("scheme", "layout", "salt", "parameters", "grade", "rows", "sure", right=(5, 6))
    for reading, affected in sorted(profile.groups.items(), key=lambda item: -item[1].rows):
        also = f" (or {', '.join(reading.also_possible)})" if reading.also_possible else ""
        table.add_row(
            reading.scheme + also,
            reading.layout,
            "yes" if reading.salted else "no",
            costs(reading.parameters),
            Text(reading.grade, style=_GRADE_STYLES[reading.grade]),
            f"{affected.rows:,}",
            f"{100 * reading.confidence:.0f} %",
        )
    return table


def audit_text(console: Console, audit: Audit) -> None:
    """Print an audit: the headline of each column, its grades, findings and groups."""
    for column in audit.columns:
        console.print(_headline(column))
        if column.profile.unreadable.rows:
            rows = column.profile.unreadable.rows
            console.print(f"{count(rows, 'stored value')} could not be read: not UTF-8 text.")
        console.print(_grades(column.profile))
        for finding in column.findings:
            _finding(console, finding)
        console.print(Text("What stands in the column", "bold"))
        console.print(_groups(column.profile))
    worst = [finding for column in audit.columns for finding in column.findings]
    if worst:
        console.print(
            "The live column is not the only copy: backups, replicas and old dumps hold the same."
        )


def explain_text(console: Console, parsed: ParsedValue, grade: Grade, *, salted: bool) -> None:
    """Read one stored value aloud."""
    sure = "" if parsed.confidence >= 1 else f" ({100 * parsed.confidence:.0f} % sure)"
    console.print(Text.assemble((parsed.scheme, "bold"), f", written as {parsed.layout}{sure}"))
    rows = [
        ("grade", f"{grade}: {MEANING[grade]}"),
        ("parameters", costs(parsed.parameters.items())),
        ("variant", parsed.variant),
        ("salt", _salt(parsed, salted=salted)),
        ("digest", f"{8 * len(parsed.digest)} bits" if parsed.digest else ""),
        ("layered over", parsed.origin),
        ("could also be", ", ".join(parsed.also_possible)),
        *(("note", note) for note in parsed.notes),
    ]
    grid = Table.grid(padding=(0, 2))
    for label, value in rows:
        if value:
            grid.add_row(Text(label, "dim"), escape(value))
    console.print(grid)


def _salt(parsed: ParsedValue, *, salted: bool) -> str:
    if parsed.kind is Kind.LAYERED and parsed.inner is not None:
        return f"{8 * len(parsed.inner.salt or b'')} bits"
    if parsed.salt is not None:
        return f"{8 * len(parsed.salt)} bits"
    if parsed.kind is not Kind.FAST:
        return ""
    return "in a column beside it" if salted else "none in the value itself"


def verify_text(console: Console, accounts: list[CheckedAccount]) -> None:
    """Print which known accounts are accepted, the rejected ones with what is near."""
    rejected = [account for account in accounts if not account.accepted]
    if not rejected:
        console.print(Text(f"All {count(len(accounts), 'known account')} accepted.", "bold green"))
    else:
        text = f"{len(rejected):,} of {count(len(accounts), 'known account')} rejected."
        console.print(Text(text, "bold red"))
        table = _table("login", "read as", "near miss")
        for account in rejected:
            table.add_row(account.login, account.scheme or "", account.near_miss or "none found")
        console.print(table)
    tally: dict[tuple[str, str], int] = {}
    for account in accounts:
        if account.accepted:
            key = (account.scheme or "", account.formula or "describes itself")
            tally[key] = tally.get(key, 0) + 1
    if tally:
        table = _table("accepted as", "by formula", "accounts", right=(2,))
        for (scheme, formula), number in sorted(tally.items(), key=lambda item: -item[1]):
            table.add_row(scheme, formula, f"{number:,}")
        console.print(table)


def tune_text(
    console: Console, *, points: list[Measurement], choice: Choice | None, within: float
) -> None:
    """Print the choice and the table that it comes from."""
    if choice is None:
        fastest = min(points, key=lambda point: point.p99_milliseconds)
        console.print(
            Text(f"Nothing at or above the floor answers within {within:.0f} ms.", "bold red")
        )
        console.print(
            f"The cheapest allowed ({costs(fastest.parameters.items())}) takes "
            f"{fastest.p99_milliseconds:.0f} ms with every core busy: "
            f"allow --within {fastest.p99_milliseconds * 1.1:.0f}, or use a faster machine."
        )
    else:
        chosen = choice.measurement
        console.print(
            Text(f"{chosen.scheme}: {costs(chosen.parameters.items())}", style="bold green")
        )
        console.print(f"Chosen as {choice.why}.")
    table = _table(
        "",
        "memory",
        "passes",
        "alone",
        "all cores busy",
        "99th percentile",
        "attacker's guesses/s",
        right=(1, 2, 3, 4, 5, 6),
    )
    for point in points:
        is_chosen = choice is not None and point is choice.measurement
        late = point.p99_milliseconds > within
        table.add_row(
            "→" if is_chosen else "",
            f"{point.parameters['memory_kib'] / 1024:.0f} MiB",
            f"{point.parameters['passes']}",
            f"{point.milliseconds:.1f} ms",
            f"{point.milliseconds_at_load:.1f} ms",
            f"{point.p99_milliseconds:.1f} ms",
            f"{guesses_per_second(point.parameters):,.0f}",
            style="bold green" if is_chosen else "dim" if late else "",
        )
    console.print(table)
    console.print(
        "Guesses: one 450 W consumer GPU of 2022, bounded by its memory bandwidth of 1,008 GB/s.",
        style="dim",
    )


def layer_text(console: Console, summary: LayeringSummary) -> None:
    """Print what a bulk run did, and which rows a person must look at."""
    done = f"{count(summary.layered, 'row')} layered, {summary.replaced:,} replaced"
    style = "bold yellow" if summary.stopped or summary.failed else "bold green"
    console.print(Text(f"{done}; {summary.considered:,} considered.", style))
    if summary.stopped:
        console.print("Stopped on request. Run the same command again to continue.")
    if summary.changed_meanwhile:
        console.print(f"{count(summary.changed_meanwhile, 'row')} changed meanwhile; left alone.")
    if summary.failed:
        console.print(f"{count(summary.failed, 'row')} failed.")
    table = _table("left as they are", "rows", right=(1,))
    for left, rows in summary.left.most_common():
        table.add_row(left.value, f"{rows:,}")
    if summary.left:
        console.print(table)
    for key, reason in summary.listed:
        console.print(f"  account {key!r}: {reason}", highlight=False)
    if summary.written:
        console.print(
            f"{summary.seconds:.1f} s, {summary.per_second:.1f} rows/s; "
            f"{count(summary.workers, 'worker')} derived for "
            f"{100 * summary.hashing_time_share:.0f} % of that time."
        )
        console.print(
            "The live column is layered; backups, logs, replicas and old dumps are not.",
            style="dim",
        )


def admit_text(console: Console, outcome: Outcome) -> None:
    """Print one login's answer."""
    if not outcome.admitted:
        console.print(Text("not admitted", "bold red"))
        return
    after = {
        Action.NONE: f"{outcome.from_scheme}, left as it is",
        Action.UPGRADED: f"{outcome.from_scheme} upgraded to {outcome.to_scheme}",
        Action.LAYER_REMOVED: f"layer removed, now plain {outcome.to_scheme}",
        Action.DEFERRED: f"{outcome.from_scheme}, upgrade deferred to the next login",
    }
    console.print(Text.assemble(("admitted", "bold green"), f": {after[outcome.action]}"))


def progress_text(console: Console, columns: list[AuditedColumn]) -> None:
    """Print the grades now, and what is left."""
    for column in columns:
        profile = column.profile
        weak = profile.below_floor
        style = "bold green" if weak == 0 else "bold yellow"
        left = f"{weak:,} of {profile.rows:,} accounts still below the floor"
        console.print(Text(f"{column.table}: {left}.", style))
        layered = profile.grades.get(Grade.LAYERED, 0)
        if layered:
            console.print(f"{count(layered, 'layered account')} will be upgraded at next login.")
        console.print(_grades(profile))
