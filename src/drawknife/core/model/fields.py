"""What a field of an item is: how it is read, written and described, and what it names."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any, Literal, NamedTuple

from .values import Read, Schema

REQUIRED = object()

#: What a field names, so that it is spelled, carried along by a rename and struck out at a removal:
#: a subject, lines that each have a subject, an account, a unit, a store folder, a store folder in
#: which placeholders may stand, what a promise says, an endpoint, a store, or the steps of a trial.
Naming = Literal[
    "subject",
    "line",
    "account",
    "unit",
    "place",
    "leads-to",
    "promise",
    "endpoint",
    "store",
    "steps",
]


class Field(NamedTuple):
    """One field of an item. `read` raises :class:`BadValue`; `many` says that it holds a list.

    `word` is what one line of a list is called, as in the option ``--member``. `stricter` says how
    the values of equally near subjects become one, and `unset` what holds where nobody sets it;
    both of settings only. `unit` is what a number counts: ``bytes``, ``bytes/s`` or ``s``; empty:
    things. `in_order` says that the order of a list counts.
    """

    name: str
    read: Read
    schema: Schema
    about: str
    default: Any = None
    many: bool = False
    write: Callable[[Any], Any] | None = None
    names: Naming | None = None
    word: str = ""
    stricter: Callable[[list[Any]], Any] | None = None
    unset: Any = None
    unit: str = ""
    in_order: bool = False

    def written(self, value: Any) -> Any:
        """A value as the model file has it."""
        if self.many:
            return [self.write(x) for x in value] if self.write else list(value)
        return self.write(value) if self.write else value

    def says(self, value: Any) -> str:
        """What one line of a list says, by which it is told from the others: without its end and
        its note.
        """
        return str(
            value.says() if self.names == "line" else self.write(value) if self.write else value
        )


def schema_of(fields: Iterable[Field], more: Schema | None = None) -> Schema:
    """The JSON Schema of items with these fields."""
    known = tuple(fields)
    properties: Schema = {
        f.name: (
            {"type": "array", "items": f.schema, "description": f.about}
            if f.many
            else {**f.schema, "description": f.about}
        )
        for f in known
    }
    required = [f.name for f in known if f.default is REQUIRED]
    return {
        "type": "object",
        "additionalProperties": False,
        "required": required,
        "properties": {**properties, **(more or {})},
    }
