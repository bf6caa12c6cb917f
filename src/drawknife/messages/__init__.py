"""What the service and its client say to each other; each type is written down once, here.

Rights, gates and states are in the words of docs/rules.md. A type is loaded when it is first used.
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

from .where import WHERE

if TYPE_CHECKING:
    from .accounts import *  # noqa: F403
    from .administrators import *  # noqa: F403
    from .base import *  # noqa: F403
    from .changes import *  # noqa: F403
    from .directories import *  # noqa: F403
    from .disk import *  # noqa: F403
    from .drafts import *  # noqa: F403
    from .idle import *  # noqa: F403
    from .limits import *  # noqa: F403
    from .mends import *  # noqa: F403
    from .model import *  # noqa: F403
    from .named import *  # noqa: F403
    from .patterns import *  # noqa: F403
    from .people import *  # noqa: F403
    from .places import *  # noqa: F403
    from .promises import *  # noqa: F403
    from .questions import *  # noqa: F403
    from .rehearsals import *  # noqa: F403
    from .reports import *  # noqa: F403
    from .trials import *  # noqa: F403


def __getattr__(name: str) -> Any:
    if name not in WHERE:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    found = getattr(import_module(f".{WHERE[name]}", __name__), name)
    globals()[name] = found
    return found
