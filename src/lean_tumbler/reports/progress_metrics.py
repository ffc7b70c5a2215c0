"""The counts of `progress` in Prometheus' text format, for a text-file collector."""

from collections.abc import Sequence
from datetime import datetime

from msgspec.structs import asdict
from prometheus_client import CollectorRegistry, Gauge, generate_latest

from lean_tumbler.core.forecast.waiting import HORIZONS
from lean_tumbler.core.grades import Grade
from lean_tumbler.reports.forecast import interval_part
from lean_tumbler.stores.scans.migration_progress import MigrationProgress


class ProgressMetrics:
    """The gauges of one count."""

    def __init__(self) -> None:
        self.registry = CollectorRegistry()
        self.rows = Gauge(
            "tumbler_progress_rows", "Stored values by grade.", ("store", "grade"),
            registry=self.registry,
        )  # fmt: skip
        self.waiting = Gauge(
            "tumbler_progress_waiting", "Accounts below the floor or layered.", ("store",),
            registry=self.registry,
        )  # fmt: skip
        self.keyed = Gauge(
            "tumbler_progress_keyed_rows", "Stored values under a key.", ("store", "key"),
            registry=self.registry,
        )  # fmt: skip
        self.forecast = Gauge(
            "tumbler_progress_forecast", "Accounts still waiting so many days after the count.",
            ("store", "days", "part"), registry=self.registry,
        )  # fmt: skip
        self.taken_at = Gauge(
            "tumbler_progress_taken_at_seconds", "When it was counted, since 1970.",
            registry=self.registry,
        )  # fmt: skip

    def add(self, migration: MigrationProgress) -> None:
        """Add the counts of one store."""
        name = migration.name
        for grade in Grade:
            self.rows.labels(name, grade).set(migration.profile.grades.get(grade, 0))
        self.waiting.labels(name).set(migration.waiting)
        for key, rows in migration.profile.keys.items():
            self.keyed.labels(name, key).set(rows)
        days = {} if migration.ahead is None else migration.ahead.days
        for day in HORIZONS if days else ():
            for part, number in asdict(interval_part(days[day])).items():
                if number is not None:
                    self.forecast.labels(name, day, part).set(number)


def prometheus_text(migrations: Sequence[MigrationProgress], taken_at: datetime) -> bytes:
    """Write the counts of all stores."""
    metrics = ProgressMetrics()
    metrics.taken_at.set(int(taken_at.timestamp()))
    for migration in migrations:
        metrics.add(migration)
    return generate_latest(metrics.registry)
