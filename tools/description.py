"""Writes what the console is built from into console/src/generated: python -m tools.description

The API's description, of which `npm run generate` makes types, and the kinds of items with their
fields. Nothing there is written by hand or kept: it is made anew for each build.
"""

from __future__ import annotations

import json
import re
import sys
from pathlib import Path
from typing import Any

from drawknife.core.model.fields import REQUIRED, Field
from drawknife.core.model.kinds import KINDS, NETWORK, NETWORK_FIELDS, SETTINGS
from drawknife.core.model.values import DURATION, SIZE
from drawknife.core.words.rights import BUNDLES, RIGHTS
from drawknife.core.words.roles import ADDS
from drawknife.messages import DirectoryOptions
from drawknife.service import openapi as of_the_api

FOLDER = Path(__file__).resolve().parent.parent / "console" / "src" / "generated"


def openapi() -> dict[str, Any]:
    """The description that a service gives of its API; what may be left out of a request has no
    default in it.
    """
    described: dict[str, Any] = json.loads(of_the_api.text())
    schemas = described["components"]["schemas"]
    operations = [
        op for path in described["paths"].values() for op in path.values() if isinstance(op, dict)
    ]
    todo = _named([op.get("requestBody") for op in operations])
    sent: set[str] = set()
    while todo:
        name = todo.pop()
        if name not in sent:
            sent.add(name)
            todo |= _named(schemas[name])
    for name in sent:
        for part in schemas[name].get("properties", {}).values():
            part.pop("default", None)
    return described


def _named(part: Any) -> set[str]:
    """The schemas that a part of the description refers to."""
    return set(re.findall(r'"#/components/schemas/(\w+)"', json.dumps(part)))


def _field(field: Field) -> dict[str, Any]:
    schema = field.schema
    choices = schema.get("enum", [])
    kind = (
        "lines"
        if field.many
        else "choice"
        if choices
        else "yes-no"
        if schema.get("type") == "boolean"
        else "text"
    )
    if schema.get("format") == "date":
        kind = "day"
    elif SIZE in (schema, *schema.get("anyOf", ())):
        kind = "size"
    elif schema == DURATION:
        kind = "duration"
    return {
        "name": field.name,
        "about": field.about,
        "kind": kind,
        "choices": choices,
        "required": field.default is REQUIRED,
        "names": field.names,
        "word": field.word,
        "unit": field.unit,
        "parts": _parts(field),
    }


def _parts(field: Field) -> list[str]:
    """What a line that names somebody is made of, and the key of the mapping that it can be; empty
    for others.
    """
    if field.names != "line":
        return []
    key = next(iter(field.schema["anyOf"][1]["properties"]))
    return [
        key,
        *(
            w.lower()
            for w in re.findall(r"\b(EFFECT|SUBJECT|RIGHTS|REACH)\b", field.about) or ["subject"]
        ),
    ]


def kinds() -> dict[str, Any]:
    """The kinds that can be changed: what each is called by, and its fields."""
    found = {
        kind.name: {
            "title": kind.title,
            "section": kind.section,
            "key": kind.fields[0].name,
            "renamed": kind.can_be_renamed,
            "fields": [_field(f) for f in kind.fields],
        }
        for kind in KINDS.values()
    }
    found[NETWORK] = {
        "title": NETWORK,
        "section": NETWORK,
        "key": "",
        "renamed": False,
        "fields": [_field(f) for f in NETWORK_FIELDS],
    }
    lists = [name for name, field in SETTINGS.items() if field.stricter is tuple]
    return {
        "directory": directory_fields(),
        "of_the_past": _with_parameter("as_of"),
        "in_drafts": _with_parameter("draft"),
        "roles": ADDS,
        "kinds": found,
        "rights": list(RIGHTS),
        "bundles": list(BUNDLES),
        "settings_of_lists": lists,
        "units": {name: field.unit for name, field in SETTINGS.items() if field.unit},
    }


def _with_parameter(name: str) -> list[str]:
    """The routes that take a parameter, as patterns of their paths: those that can be asked of the
    past, or of a draft.
    """
    found = []
    for path, methods in openapi()["paths"].items():
        for operation in methods.values():
            if any(p["name"] == name for p in operation.get("parameters", [])):
                found.append("^" + re.sub(r"\{\w+\}", "[^/]+", path) + "$")
    return sorted(set(found))


def directory_fields() -> list[dict[str, Any]]:
    """How a directory is reached and read, field by field."""
    schema = DirectoryOptions.model_json_schema()
    found = []
    for name, part in schema["properties"].items():
        kind = {"boolean": "yes-no", "integer": "number"}.get(part.get("type"), "text")
        found.append(
            {
                "name": name,
                "about": part.get("description", ""),
                "kind": kind,
                "choices": [],
                "required": name in schema["required"],
                "names": None,
                "default": part.get("default"),
            }
        )
    return found


def main() -> int:
    FOLDER.mkdir(exist_ok=True)
    for name, data in (("openapi.json", openapi()), ("kinds.json", kinds())):
        text = json.dumps(data, indent=1, ensure_ascii=False) + "\n"
        path = FOLDER / name
        if not path.exists() or path.read_text() != text:
            path.write_text(text)
    return 0


if __name__ == "__main__":
    sys.exit(main())
