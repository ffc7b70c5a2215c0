"""docs/METRICS.md: what `serve` and `progress` count for Prometheus."""

from collections.abc import Iterator

from prometheus_client import Counter, Gauge, Histogram

from lean_tumbler.reports.progress_metrics import ProgressMetrics
from lean_tumbler.service.metrics import Metrics
from reference.tables import GENERATED, table

_HEAD = f"""\
# Metrics

In Prometheus' text format. No metric holds a login, a stored value or a password. {GENERATED}

`lean-tumbler serve` gives its own at `/metrics`. `lean-tumbler progress --prometheus FILE`
writes its gauges for a node exporter's text-file collector.
"""
_ENDINGS = {"counter": "_total", "histogram": "_bucket, _sum, _count"}
_COLUMNS = ("metric", "kind", "labels", "meaning")


def metrics_page() -> str:
    """Write the page."""
    parts = [_HEAD]
    for heading, metrics in (("serve", Metrics()), ("progress", ProgressMetrics())):
        parts.append(f"\n## {heading}\n\n{table(_COLUMNS, _rows(metrics))}")
    return "".join(parts)


def _rows(metrics: Metrics | ProgressMetrics) -> Iterator[tuple[str, ...]]:
    for metric in vars(metrics).values():
        if isinstance(metric, Counter | Gauge | Histogram):
            family = next(iter(metric.describe()))
            ending = _ENDINGS.get(family.type, "")
            labels = metric._labelnames  # noqa: SLF001 - the library tells them in no other way
            names = ", ".join(f"`{family.name}{end.strip()}`" for end in ending.split(","))
            yield (
                names,
                family.type,
                ", ".join(f"`{name}`" for name in labels),
                family.documentation,
            )
