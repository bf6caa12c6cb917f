"""From the answers to a pattern's questions to the changes that it makes.

Every text in the changes may hold answers, ``$folder`` or ``${folder}``; ``${folder_in}ada`` is
what lies in it. Besides the changes of docs/reference/changes.md there are three that only patterns
have:

    {ensure: folder, item: {…}}                an item is added; if it is there, only the lines of
    its lists are
    {each: account, of: $who, changes: […]}    once for each account that counts as a subject;
    $account is its name
    {if: key, changes: […]}                    only if a question that may be left out was answered
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from string import Template
from typing import Any

from drawknife.core.everybody.division import bits_in
from drawknife.core.follows.pairing import members_of
from drawknife.core.model.items import Model, parse_subject
from drawknife.core.model.kinds import KINDS
from drawknife.core.prepared.prepared import Prepared
from drawknife.core.words.errors import BadInput, BadValue
from drawknife.core.words.names import fold

from .pattern_file import ANSWER_KINDS, Pattern

Changes = list[dict[str, Any]]
Answers = dict[str, Any]


def changes_of(pattern: Pattern, given: Mapping[str, str], prepared: Prepared) -> Changes:
    """The changes, as docs/reference/changes.md has them, for a model as of a day.

    Raises :class:`BadInput` with the question for an answer that is missing or is none, and
    :class:`NotFound` for one to a question that is not asked.
    """
    return list(_expanded(pattern.all_changes, _answers(pattern, given), prepared))


def _answers(pattern: Pattern, given: Mapping[str, str]) -> Answers:
    for key in given:
        pattern.ask(key)
    lacking = [
        a for a in pattern.asks if not (given.get(a.key, "").strip() or a.default or a.optional)
    ]
    if lacking:
        also = (
            f"; nor {'is' if len(lacking) == 2 else 'are'}"
            f" {' and '.join(a.key for a in lacking[1:])}"
            if lacking[1:]
            else ""
        )
        first = lacking[0]
        text = f"it is not answered: {first.asks[0].lower()}{first.asks[1:]}{also}"
        raise BadInput(first.key, text, ANSWER_KINDS[first.kind].expected)
    found: Answers = {}
    for ask in pattern.asks:
        kind = ANSWER_KINDS[ask.kind]
        text = given.get(ask.key, "").strip() or (
            _filled(ask.default, found) if ask.default else ""
        )
        try:
            found[ask.key] = kind.read(text) if text else None
        except BadValue as bad:
            raise BadInput(ask.key, str(bad), bad.expected or kind.expected) from None
        if ask.kind == "folder":  # $folder_in: what names in the folder begin with
            found[f"{ask.key}_in"] = found[ask.key].rstrip("/") + "/" if text else None
    return found


def _expanded(changes: Changes, answers: Answers, prepared: Prepared) -> Iterator[dict[str, Any]]:
    for change in changes:
        if "if" in change:
            if answers[change["if"]] is not None:
                yield from _expanded(change["changes"], answers, prepared)
        elif "each" in change:
            for name in _accounts(_filled(change["of"], answers), prepared):
                yield from _expanded(change["changes"], {**answers, change["each"]: name}, prepared)
        elif "ensure" in change:
            made = _ensured(change["ensure"], _filled(change["item"], answers), prepared.full.model)
            if made is not None:
                yield made
        else:
            yield _filled(change, answers)


def _accounts(subject: str, prepared: Prepared) -> list[str]:
    accounts = prepared.model.accounts
    return [accounts[i].name for i in bits_in(members_of(prepared, [parse_subject(subject)]))]


def _filled(data: Any, answers: Answers) -> Any:
    """The data with answers in the place of their keys; a text that is one key is the answer
    itself.

    What holds an answer that was left out is left out, too.
    """
    if isinstance(data, dict):
        filled = {k: _filled(x, answers) for k, x in data.items()}
        return {k: x for k, x in filled.items() if x is not None}
    if isinstance(data, list):
        return [x for x in (_filled(x, answers) for x in data) if x is not None]
    if not isinstance(data, str):
        return data
    if data.startswith("$") and data[1:] in answers:
        return answers[data[1:]]
    template = Template(data)
    if any(answers[name] is None for name in template.get_identifiers()):
        return None
    return template.substitute(answers)


def _ensured(kind: str, item: dict[str, Any], model: Model) -> dict[str, Any] | None:
    """An item added; or where it is there, the lines of its lists added to it; None if
    it has none.
    """
    declared = KINDS[kind]
    if kind == "unit":
        there = any(fold(u) == fold(item["path"]) for u in model.units)
        called = item["path"]
    elif kind == "virtual-path":
        called = f"{item['path']}>{item['leads_to']}"
        there = any(fold(declared.called(x)) == fold(called) for x in model.virtual_paths)
    else:
        called = str(item[declared.key if kind != "setting" else "for"])
        there = any(
            fold(declared.called(x)) == fold(called) for x in getattr(model, declared.section)
        )
    if not there:
        return {"op": "add", "kind": kind, "item": item}
    lists = (
        {f.name: item[f.name] for f in declared.lists if item.get(f.name)} if kind != "unit" else {}
    )
    return {"op": "change", "kind": kind, "name": called, "add": lists} if lists else None
