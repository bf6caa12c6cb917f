"""What the service and its client say to each other; each type is written down once, here.

Rights, gates and states are in the words of docs/rules.md.
"""

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
from .questions import *  # noqa: F403
from .rehearsals import *  # noqa: F403
