"""What is counted, in Prometheus' text format."""

from prometheus_client import (
    CollectorRegistry,
    Counter,
    Gauge,
    Histogram,
    disable_created_metrics,
    generate_latest,
)

_SECONDS = (0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 5.0)


disable_created_metrics()  # type: ignore[no-untyped-call]  # a line for each counter, of no use


class Metrics:
    """Counters of one service; logins and values are in none of them."""

    def __init__(self) -> None:
        self.registry = CollectorRegistry()
        self.logins = Counter(
            "tumbler_logins", "Logins by answer and action.",
            ("store", "cohort", "admitted", "action"), registry=self.registry,
        )  # fmt: skip
        self.refusals = Counter(
            "tumbler_refusals", "Refused logins by the reason, which is not answered.",
            ("store", "reason"), registry=self.registry,
        )  # fmt: skip
        self.agreement = Counter(
            "tumbler_agreement", "The application's verdict beside this one.",
            ("store", "cohort", "expected", "admitted"), registry=self.registry,
        )  # fmt: skip
        self.problems = Counter(
            "tumbler_problems", "Requests that were answered with a problem.", ("type",),
            registry=self.registry,
        )  # fmt: skip
        self.alerts = Counter(
            "tumbler_alerts", "Events that an operator should look at.", ("store",),
            registry=self.registry,
        )  # fmt: skip
        self.seconds = Histogram(
            "tumbler_request_seconds", "Seconds from a complete request to its answer.", ("path",),
            buckets=_SECONDS, registry=self.registry,
        )  # fmt: skip
        self.promise = Counter(
            "tumbler_promise", "Logins answered within --within, later, or refused for no room.",
            ("outcome",), registry=self.registry,
        )  # fmt: skip
        self.promise_seconds = Gauge(
            "tumbler_promise_seconds",
            "Seconds within which 99 in 100 logins are promised.",
            registry=self.registry,
        )
        self.waiting = Gauge(
            "tumbler_requests_in_flight", "Requests that derive or wait for it.",
            registry=self.registry,
        )  # fmt: skip

    def text(self) -> bytes:
        """Give all counters."""
        return generate_latest(self.registry)
