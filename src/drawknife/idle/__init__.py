"""What has no effect: parts of a model that could be taken away, and nothing would be different for
anybody.
"""

from .parts import Part
from .taking_away import Idle, IdleParts, idle

__all__ = ["Idle", "IdleParts", "Part", "idle"]
