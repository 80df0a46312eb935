"""What each request leaves behind: an id, a line of the access log where wished, and the figures of ``/metrics``."""

from __future__ import annotations

import hmac
import secrets
import time

import structlog
from flask import Flask, Response, g, request
from prometheus_client import CONTENT_TYPE_LATEST, CollectorRegistry, Counter, Histogram, generate_latest
from prometheus_client.process_collector import ProcessCollector

from openmeadow.services.today.metrics import WorkspaceMetrics
from openmeadow.services.workspace import Workspace

log = structlog.get_logger()
LOOPBACK = ("127.0.0.1", "::1")
BUCKETS = (0.01, 0.03, 0.1, 0.3, 1.0, 3.0, 10.0)  # seconds


def _may(workspace: Workspace) -> bool:
    """Whether this request may see the figures. One that a proxy passes on comes from outside."""
    if request.remote_addr in LOOPBACK and "X-Forwarded-For" not in request.headers:
        return True
    token = str(workspace.setting("metrics_token"))
    scheme, _, given = request.headers.get("Authorization", "").partition(" ")
    return bool(token) and scheme.lower() == "bearer" and hmac.compare_digest(given.strip().encode(), token.encode())


def add(app: Flask, workspace: Workspace) -> None:
    """Give requests an id, count them, and serve the figures (Prometheus text format)."""
    registry = CollectorRegistry(auto_describe=False)
    ProcessCollector(registry=registry)
    requests = Counter("openmeadow_http_requests", "Requests answered.", ["method", "status"], registry=registry)
    seconds = Histogram("openmeadow_http_request_seconds", "Until the answer.", registry=registry, buckets=BUCKETS)
    registry.register(WorkspaceMetrics(workspace))

    @app.before_request
    def begun() -> None:
        g.begun, g.request_id = time.perf_counter(), secrets.token_hex(6)
        structlog.contextvars.clear_contextvars()
        structlog.contextvars.bind_contextvars(request=g.request_id)

    @app.after_request
    def answered(response: Response) -> Response:
        took = time.perf_counter() - g.begun if "begun" in g else 0.0
        seconds.observe(took)
        requests.labels(request.method, str(response.status_code)).inc()
        if "request_id" in g:
            response.headers["X-Request-Id"] = g.request_id
        if app.config.get("ACCESS_LOG"):
            route = request.url_rule.rule if request.url_rule else ""  # an address may hold a token, or name a person
            log.info("answered", method=request.method, route=route, status=response.status_code, ms=round(1000 * took))
        return response

    @app.get("/metrics")
    def metrics() -> Response:
        if not _may(workspace):
            return Response("Ask from this machine, or with the setting metrics_token as a bearer token.\n", 403)
        return Response(generate_latest(registry), content_type=CONTENT_TYPE_LATEST)
