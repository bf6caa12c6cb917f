"""Every question that can be asked of a model, answered in the words of :mod:`drawknife.messages`.

The service answers with this, and so does the command line on a model file: the answers are the
same.
"""

from .access import example_path
from .answering import Answering, decide_lines
from .map_window import MapWindow

__all__ = ["Answering", "MapWindow", "decide_lines", "example_path"]
