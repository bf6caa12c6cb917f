"""What is set up again and again, as a few questions: patterns are YAML files with their questions
and changes.
"""

from .expanding import changes_of
from .pattern_file import (
    ANSWER_KINDS,
    Ask,
    Pattern,
    Trials,
    all_patterns,
    find_pattern,
    read_pattern,
    source_of,
)

__all__ = [
    "ANSWER_KINDS",
    "Ask",
    "Pattern",
    "Trials",
    "all_patterns",
    "changes_of",
    "find_pattern",
    "read_pattern",
    "source_of",
]
