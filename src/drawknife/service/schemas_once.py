"""Each message's JSON Schema is made once, and not for every route that answers with it: a service starts in half the time.

flask-openapi3 makes them as the routes are declared, the same problem some six hundred times, and has no setting for that.
"""

from __future__ import annotations

from copy import deepcopy
from functools import lru_cache
from typing import Any

from flask_openapi3 import utils

_made_anew = utils.get_model_schema


@lru_cache(None)
def _made_once(model: Any, mode: Any) -> dict[str, Any]:
    return _made_anew(model, mode)


def _copied(model: Any, mode: Any = "validation") -> dict[str, Any]:
    """A copy: what is given out is changed."""
    return deepcopy(_made_once(model, mode))


def make_schemas_once() -> None:
    """From now on, for whatever is declared."""
    utils.get_model_schema = _copied
