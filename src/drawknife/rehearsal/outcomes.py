"""What came of an action is written down: that it was done, or what kept it from being done."""

from __future__ import annotations

import functools
from collections.abc import Callable
from typing import Concatenate, ParamSpec, Protocol, TypeVar

from .log import ActionLine
from .refusals import InTheWay, NotThere
from .writing import Scene


class Actor(Protocol):
    """Whoever acts, with the line on what the rules said last."""

    scene: Scene

    def write_down(self, note: str | None = None, done: bool = True) -> None: ...

    def take_line(self) -> ActionLine | None: ...


A = TypeVar("A", bound=Actor)
P = ParamSpec("P")
T = TypeVar("T")


def written_down(method: Callable[Concatenate[A, P], T]) -> Callable[Concatenate[A, P], T]:
    """An action of a session: what the rules allow is written down as done, or with what kept it
    from being done.
    """

    @functools.wraps(method)
    def wrapper(self: A, /, *given: P.args, **named: P.kwargs) -> T:
        try:
            found = method(self, *given, **named)
        except (NotThere, InTheWay) as refused:
            why = (
                "there is no such file or folder"
                if isinstance(refused, NotThere)
                else "something is in the way"
            )
            self.write_down(why, done=False)
            raise
        except BaseException:
            self.write_down("it failed", done=False)
            raise
        line = self.take_line()
        if line is not None:
            self.scene.log.write(line)
        return found

    return wrapper
