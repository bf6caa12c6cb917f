"""The service with one empty route besides, for comparison: python -m benchmarks.served DATABASE PORT"""

from __future__ import annotations

import sys

from flask import Response

from drawknife.records.database import Database
from drawknife.service.app import create_app
from drawknife.service.server import Server, set_up_logging


class WithEmptyRoute(Server):
    def load(self) -> object:
        set_up_logging(False)
        app = create_app(Database(self.address))

        @app.get("/empty")
        def empty() -> Response:
            return Response("{}", mimetype="application/json")

        return app


if __name__ == "__main__":
    WithEmptyRoute(
        sys.argv[1], "127.0.0.1", int(sys.argv[2]), None, None, 4, False, lambda: print("ready", flush=True)
    ).run()
