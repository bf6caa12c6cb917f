"""What may take long, such as asking a directory: a few at once, each with a deadline, so that the
rest is answered.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from concurrent.futures import TimeoutError as OutOfTime
from typing import TypeVar

from drawknife.core.words.errors import OutOfReach

Found = TypeVar("Found")


class Busy(OutOfReach):
    """As much is under way as may be at once."""


class Few:
    """Runs things in threads of their own, `most` at once, each for `seconds` at the longest."""

    def __init__(self, name: str, most: int, seconds: float) -> None:
        self.name, self.seconds = name, seconds
        self._free = threading.Semaphore(most)
        self._pool = ThreadPoolExecutor(most * 4, thread_name_prefix=name)

    def run(self, work: Callable[[], Found]) -> Found:
        """What `work` gives.

        :class:`Busy` if too many are under way; TimeoutError if it takes too long: it may then go
        on by itself, and what it gives is not used.
        """
        if not self._free.acquire(blocking=False):
            raise Busy(f"the {self.name} are asked by others just now; try again in a few seconds")
        future = self._pool.submit(work)
        future.add_done_callback(lambda _: self._free.release())
        try:
            return future.result(self.seconds)
        except OutOfTime:
            raise TimeoutError(f"no answer within {self.seconds:g} seconds") from None
