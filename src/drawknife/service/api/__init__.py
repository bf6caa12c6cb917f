"""The routes, by subject."""

from ..schemas_once import make_schemas_once

make_schemas_once()
