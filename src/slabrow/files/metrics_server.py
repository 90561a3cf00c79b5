"""Serves the metrics of the last run over HTTP, for a monitoring system."""

import re
from collections.abc import Iterable

from prometheus_client import CollectorRegistry, start_http_server
from prometheus_client.metrics_core import Metric
from prometheus_client.registry import Collector

from slabrow.core.values.errors import UsageError

USUAL_HOST = "127.0.0.1"


class MetricsServer(Collector):
    """Answers from now on; with nothing until `show` has been told something."""

    def __init__(self, address: str) -> None:
        """address: `9187` or `0.0.0.0:9187`. Raises UsageError when it is not a port, or the port may not be opened."""
        host, port = _parsed(address)
        self._shown: CollectorRegistry | None = None
        registry = CollectorRegistry()
        registry.register(self)
        try:
            start_http_server(port, addr=host, registry=registry)
        except OSError as error:
            raise UsageError(
                f"the port {host}:{port} cannot be opened",
                found=error.strerror or str(error),
                fix="give another --serve",
            ) from None

    def show(self, registry: CollectorRegistry) -> None:
        """These are the measures now."""
        self._shown = registry

    def collect(self) -> Iterable[Metric]:
        """The measures of the last run."""
        return () if self._shown is None else self._shown.collect()


def _parsed(address: str) -> tuple[str, int]:
    host, _, port = address.rpartition(":")
    if not re.fullmatch("[0-9]{1,5}", port) or not 0 < int(port) < 65_536:
        raise UsageError(
            f"--serve {address} is not a port", fix="write it as 9187, or as 0.0.0.0:9187 for other machines"
        )
    return host.strip("[]") or USUAL_HOST, int(port)
