"""The audit as one HTML page that needs nothing else: no network, no script, no other file."""

from __future__ import annotations

from typing import TYPE_CHECKING

from lean_tumbler.core.grades import MEANING
from lean_tumbler.core.printable import printable
from lean_tumbler.jobs.audit.attack import ATTACK_HEADINGS, ATTACK_MEANING, attack_rows
from lean_tumbler.jobs.audit.audit_document import other_parts
from lean_tumbler.jobs.audit.headline import headline
from lean_tumbler.reports import plots
from lean_tumbler.reports.pages import ENVIRONMENT, inline
from lean_tumbler.reports.wording import costs

if TYPE_CHECKING:
    from datetime import datetime

    from lean_tumbler.core.tuning.attacker import Attacker
    from lean_tumbler.stores.scans.auditing import Audit, AuditedColumn


def audit_page(audit: Audit, taken_at: datetime) -> str:
    """Give the page.

    Args:
        audit: what was found.
        taken_at: when, for the head of the page.
    """
    columns = [_column(column, audit.attacker) for column in audit.columns]
    overview = [(printable(f"{c.table}.{c.column}"), c.profile.grades) for c in audit.columns]
    return ENVIRONMENT.get_template("audit.html").render(
        source=audit.source,
        taken_at=taken_at.strftime("%Y-%m-%d %H:%M %Z").strip(),
        columns=columns,
        rows=audit.rows,
        weak=sum(column["weak"] for column in columns),
        not_understood=sum(column["not_understood"] for column in columns),
        values=sum(column["values"] for column in columns),
        floor=audit.floor.source,
        overview=inline(plots.grades_plot(overview)) if overview else "",
        others=other_parts(audit),
        unreadable=[
            {"rows": found.rows, "listed": found.listed} for found in audit.unreadable if found.rows
        ],
        cut_off=audit.cut_off,
        likely_passwords=audit.likely_passwords,
        colours=plots.GRADE_COLOURS,
        meaning=MEANING,
        hardware=audit.attacker.hardware.name,
        attack_headings=ATTACK_HEADINGS,
        attack_meaning=ATTACK_MEANING,
    )


def _column(column: AuditedColumn, attacker: Attacker) -> dict[str, object]:
    profile = column.profile
    return {
        "name": f"{column.table}.{column.column}",
        "rows": profile.rows,
        "values": profile.rows - profile.without_value,
        "weak": profile.below_floor,
        "not_understood": profile.not_understood,
        "headline": headline(column).plain.partition(": ")[2],
        "without_value": profile.without_value,
        "grades": [
            {"grade": grade, "rows": rows, "share": 100 * rows / (profile.rows or 1)}
            for grade, rows in profile.grades.items()
        ],
        "findings": column.findings,
        "groups": [
            {
                "reading": reading,
                "costs": costs(reading.parameters),
                "rows": affected.rows,
                "sure": f"{100 * reading.confidence:.0f} %",
            }
            for reading, affected in sorted(profile.groups.items(), key=lambda item: -item[1].rows)
        ],
        "attack": attack_rows(profile, attacker),
        "costs_plot": inline(plots.costs_plot(profile)),
        "clusters_plot": inline(plots.clusters_plot(profile)),
        "ages_plot": inline(plots.ages_plot(profile)),
    }
