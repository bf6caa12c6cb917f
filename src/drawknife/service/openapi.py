"""The API's description (OpenAPI).

It is made in a process of its own, when it is asked for first: describing takes as long as
everything else that a service loads, and few ask.
"""

from __future__ import annotations

import subprocess
import sys
from functools import cache

#: Are the routes that are declared from now on described?
wanted = False


@cache
def text() -> str:
    """The description, as JSON."""
    command = [sys.executable, "-m", "drawknife.service.openapi_printed"]
    return subprocess.run(command, check=True, capture_output=True, text=True).stdout
