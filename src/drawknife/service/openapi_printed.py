"""Prints the API's description: python -m drawknife.service.openapi_printed"""

from __future__ import annotations

import json

from drawknife.records.database import Database

from . import openapi

if __name__ == "__main__":
    openapi.wanted = True  # before the routes are loaded

    from .app import create_app

    print(json.dumps(create_app(Database(""), start=False).api_doc))
