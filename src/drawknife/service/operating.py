"""What whoever runs the service asks it: is it alive, is it ready, and how is it doing?

Outside of the API.
"""

from __future__ import annotations

import json

from flask import Flask, Response, request

from drawknife.records.database import Unavailable

from .current import Current
from .metrics import CONTENT_TYPE_LATEST, exposed
from .problems import problem, problem_for
from .routes_and_roles import OF_EVERYBODY
from .security import asker, refused

LIVE, READY, METRICS = "/health/live", "/health/ready", "/metrics"


def add_to(app: Flask, current: Current) -> None:
    """The routes, which lie beside the API and its version."""

    def live() -> Response:
        """The process answers."""
        return Response('{"status": "ok"}\n', mimetype="application/json")

    def ready() -> Response:
        """It answers from the model in force; 503 while the database is away, and when it is about
        to stop.

        The status is ``read-only`` where the database takes no changes.
        """
        if current.stopping():
            return problem(
                "stopping",
                "The service stops",
                503,
                "this one takes nothing new; ask another",
                Retry_After="1",
            )
        try:
            current.prepared()
        except Unavailable as error:
            return problem_for(error)
        status = "read-only" if current.is_read_only() else "ok"
        return Response(json.dumps({"status": status}) + "\n", mimetype="application/json")

    def metrics() -> Response:
        """What is counted and measured, as OpenMetrics.

        Any administrator's or program's token will do.
        """
        holder = asker(request, current)
        if holder is None:
            return refused(request, current)
        if holder.shown is not None:
            return problem("not-allowed", "Not allowed", 403, OF_EVERYBODY)
        return Response(exposed(current), content_type=CONTENT_TYPE_LATEST)

    for path, answering in ((LIVE, live), (READY, ready), (METRICS, metrics)):
        app.add_url_rule(path, path, answering)
