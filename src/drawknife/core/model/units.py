"""What is known of units, as plain data and back."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from .items import UnitFacts


def unit_data(unit: str, facts: UnitFacts | None) -> Any:
    """A unit as the model file has it: its path, or a mapping where there is more to say."""
    if facts is None or facts == UnitFacts(unit):
        return unit
    return {
        key: value
        for key, value in facts._asdict().items()
        if value != UnitFacts._field_defaults.get(key)
    }


def unit_from(data: Any) -> UnitFacts:
    """The inverse of :func:`unit_data`, for what is sound."""
    return UnitFacts(**data) if isinstance(data, dict) else UnitFacts(data)


def unit_facts(some: Iterable[UnitFacts]) -> tuple[UnitFacts, ...]:
    """Those of which more is known than the path, as a model has them."""
    return tuple(sorted((x for x in some if x != UnitFacts(x.path)), key=lambda x: x.path))
