"""What is counted and timed in this process, for whoever watches it: the metrics of ``/metrics``."""

from __future__ import annotations

from prometheus_client import Histogram

from anaxis.monitoring import timing

_SECONDS = (0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 5.0, 10.0, 30.0, 60.0)
REQUEST_SECONDS = Histogram(
    "anaxis_request_seconds", "Seconds until a request was answered.", ["method", "route", "status"], buckets=_SECONDS
)
READER_SECONDS = Histogram(
    "anaxis_reader_seconds",
    "Seconds that a process apart took for one file or calculation.",
    ["kind"],
    buckets=_SECONDS,
)
timing.listeners.append(lambda kind, seconds: READER_SECONDS.labels(kind).observe(seconds))
CHANGE_SECONDS = Histogram(
    "anaxis_exchange_change_seconds", "Seconds until a change of a package was kept.", buckets=_SECONDS
)
