"""What a kind of item is: one declaration, with all its fields, from which all else comes."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from operator import attrgetter
from typing import Any

from ..words.names import fold
from .fields import Field


@dataclass(frozen=True, eq=False)
class Kind:
    """A kind of item: its name, the section of the model that holds it, how an item is made, and
    its fields.
    """

    name: str
    section: str
    make: Callable[..., Any]
    fields: tuple[Field, ...]
    #: The field that an item is called by.
    key: str = "name"
    can_be_renamed: bool = True
    #: Is what an item is called its own? Several virtual paths may be called alike.
    each_once: bool = True

    @property
    def title(self) -> str:
        """The kind in a sentence."""
        return self.name.replace("-", " ")

    @cached_property
    def naming(self) -> tuple[Field, ...]:
        """The fields that name something."""
        return tuple(f for f in self.fields if f.names is not None)

    @cached_property
    def lists(self) -> tuple[Field, ...]:
        """The fields that hold lists of which the order says nothing."""
        return tuple(f for f in self.fields if f.many and not f.in_order)

    @cached_property
    def by_name(self) -> dict[str, Field]:
        """The fields by their names."""
        return {f.name: f for f in self.fields}

    @cached_property
    def values_naming(self) -> Callable[[Any], Sequence[Any]]:
        """The values of :attr:`naming` of an item, all at once: there can be a million folders."""
        return self.values(self.naming)

    @cached_property
    def values_listed(self) -> Callable[[Any], Sequence[Any]]:
        """The values of :attr:`lists` of an item, all at once."""
        return self.values(self.lists)

    @cached_property
    def values_looked_at(self) -> Callable[[Any], Sequence[Any]]:
        """The values of both: an item that has none of them is in canonical form."""
        return self.values(
            [f for f in self.fields if f.names is not None or (f.many and not f.in_order)]
        )

    @cached_property
    def every_value(self) -> Callable[[Any], Sequence[Any]]:
        """The values of all :attr:`fields` of an item, all at once."""
        return self.values(self.fields)

    def values(self, fields: Sequence[Field]) -> Callable[[Any], Sequence[Any]]:
        """What gives the values of some fields of an item."""
        names = [self.attribute(f.name) for f in fields]
        get = attrgetter(*names) if names else lambda _: ()
        return get if len(names) != 1 else lambda item: (get(item),)

    def called(self, item: Any) -> str:
        """What an item is called."""
        return str(getattr(item, self.key))

    def placed(self, item: Any) -> str:
        """How an item is told as the place where something stands."""
        return self.called(item)

    def order(self, item: Any) -> Any:
        """What items are sorted by."""
        return fold(self.called(item))

    def get(self, item: Any, field: Field) -> Any:
        """The value of a field."""
        return getattr(item, self.attribute(field.name))

    def attribute(self, name: str) -> str:
        """What an item calls a field of that name."""
        return name

    def but(self, item: Any, values: dict[str, Any]) -> Any:
        """The item with other values, by the fields' names."""
        return replace(item, **{self.attribute(name): value for name, value in values.items()})

    def sorted(self, item: Any) -> Any:
        """The item with its lists sorted, as in canonical form."""
        lists = {f.name: tuple(sorted(x)) for f in self.lists if (x := self.get(item, f))}
        return self.but(item, lists) if lists else item

    def made_from(self, values: dict[str, Any]) -> Any:
        """An item of the values of its fields; those by default may be left out."""
        return self.make(**{self.attribute(name): value for name, value in values.items()})

    def data(self, item: Any) -> dict[str, Any]:
        """An item as the model file has it; what is as by default is left out."""
        return self.alone(item)

    def alone(self, item: Any) -> dict[str, Any]:
        """The same without items of other kinds that are written within it."""
        values = self.every_value(item)
        if values[1:] == self._plain:  # as most folders are: there can be a million of them
            name, _, written = self._writing[0]
            return {name: values[0] if written is None else written(values[0])}
        return {
            name: value if written is None else written(value)
            for (name, default, written), value in zip(self._writing, values, strict=True)
            if value is not default and value != default
        }

    @cached_property
    def _plain(self) -> tuple[Any, ...]:
        """The defaults of all fields but the first: an item that has these is told by its first
        field alone.
        """
        return tuple(f.default for f in self.fields[1:])

    @cached_property
    def _writing(self) -> tuple[tuple[str, Any, Callable[[Any], Any] | None], ...]:
        """How each field is written: its name, what is left out, and None where a value is written
        as it is.
        """
        return tuple(
            (f.name, f.default, f.written if f.many or f.write else None) for f in self.fields
        )
