"""Forms of PATCH (RFC 7644, section 3.5.2) that clients send besides those of the standard, brought
to these.
"""

from __future__ import annotations

import json
from typing import Any

from scim2_models import InvalidSyntaxException

#: What a value without a path may repeat of the resource, and what is not changed by it.
_REPEATED = {"schemas", "meta"}


def plain_operations(body: bytes, id_: str) -> Any:
    """The body of a PATCH of the resource with an id: its own id, schemas and meta are left out of
    values, and keys such
    as ``name.familyName`` become operations of their own. InvalidSyntaxException if the body is not
    JSON.
    """
    try:
        sent = json.loads(body)
    except ValueError:
        raise InvalidSyntaxException(detail="the body is not JSON") from None
    key = (
        next((k for k in sent if k.casefold() == "operations"), None)
        if isinstance(sent, dict)
        else None
    )
    if key is None or not isinstance(sent[key], list):
        return sent
    found: list[Any] = []
    for operation in sent[key]:
        found += _plain(operation, id_)
    return {**sent, key: found}


def _plain(operation: Any, id_: str) -> list[Any]:
    keys = {k.casefold(): k for k in operation} if isinstance(operation, dict) else {}
    value = operation.get(keys.get("value")) if keys else None
    if "path" in keys or not isinstance(value, dict):
        return [operation]
    kept, apart = {}, []
    for name, given in value.items():
        is_repeated = name.casefold() in _REPEATED or (name.casefold() == "id" and given == id_)
        if "." in name and ":" not in name:
            apart.append(
                {keys["op"]: operation[keys["op"]], "path": name, "value": given}
                if "op" in keys
                else operation
            )
        elif not is_repeated:
            kept[name] = given
    return [*([{**operation, keys["value"]: kept}] if kept or not apart else []), *apart]
