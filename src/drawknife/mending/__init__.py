"""Ways to mend a refusal, or to stop what is allowed (docs/rules.md, "Mending"): changes as they
are written down.
"""

from .search import WaysFound as WaysFound
from .search import mends as mends
from .search import stops as stops
