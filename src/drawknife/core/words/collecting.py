"""Making very many objects at once."""

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def many_objects() -> Iterator[None]:
    """While a great many lasting objects are made, the garbage collector would look at all of them
    in vain.
    """
    was = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was:
            gc.enable()
