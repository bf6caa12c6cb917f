"""Changes as they are written down, done to a model. The service does them with this."""

from .apply import Applied, apply
from .items import NETWORK, NETWORK_KEYS, SETTING_KEYS, keys_of, subject_of

__all__ = ["NETWORK", "NETWORK_KEYS", "SETTING_KEYS", "Applied", "apply", "keys_of", "subject_of"]
