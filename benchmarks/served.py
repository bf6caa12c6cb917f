"""The service with one empty route besides, for comparison: python -m benchmarks.served DATABASE
PORT PROCESSES
"""

from __future__ import annotations

import sys

from flask import Flask, Response

from drawknife.service.server import Options, Server, listen


def with_empty_route(app: Flask) -> None:
    @app.get("/empty")
    def empty() -> Response:
        return Response("{}", mimetype="application/json")


if __name__ == "__main__":
    database, port, processes = sys.argv[1], int(sys.argv[2]), int(sys.argv[3])
    options = Options(database, threads=4, processes=processes)
    Server(
        options, listen("127.0.0.1", port), lambda: print("ready", flush=True), with_empty_route
    ).run()
