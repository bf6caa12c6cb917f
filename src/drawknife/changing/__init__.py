"""Changes as they are written down, done to a model. The service does them with this."""

from .apply import Applied, apply
from .items import subject_of

__all__ = ["Applied", "apply", "subject_of"]
