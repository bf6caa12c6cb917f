"""What the editing commands share: options made from the keys of items, previews, and the change
itself.
"""

from __future__ import annotations

import functools
import sys
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple, TypeAlias, TypeVar

import click

from drawknife import messages as msg
from drawknife.client import Client
from drawknife.core.model.fields import Field
from drawknife.core.model.kinds import NETWORK, OF_A_DIRECTORY, Kind, fields_of
from drawknife.core.words.names import BadValue, check_name
from drawknife.core.words.quantities import read_duration, read_size

from .common import (
    DEFAULT_URL,
    Answers,
    confirm,
    connect,
    console,
    errors_in_words,
    print_json,
    say,
)

if TYPE_CHECKING:  # only loaded for a model file
    from drawknife.answers.changing import Changing

F = TypeVar("F", bound=Callable[..., Any])


class InDraft:
    """Puts changes into a draft of a service."""

    def __init__(self, client: Client, name: str) -> None:
        self._client, self.name = client, name

    def asking(self) -> Client:
        """Asks as it would be with the draft; where there is none of the name yet, as it is."""
        there = any(d.name.casefold() == self.name.casefold() for d in self._client.drafts().drafts)
        return self._client.in_draft(self.name) if there else self._client

    def account_names(self) -> set[str]:
        return self.asking().account_names()

    def preview(self, changes: Sequence[dict[str, Any]]) -> msg.Preview:
        return self._client.in_draft(self.name).preview(changes)

    def check(self, changes: Sequence[dict[str, Any]]) -> msg.Checked:
        return self._client.in_draft(self.name).check(changes)

    def change(
        self, changes: Sequence[dict[str, Any]], revision: int | None = None
    ) -> msg.DraftWritten:
        return self._client.add_to_draft(self.name, changes)


#: What changes: a service, a draft in it, or a model file.
Writer: TypeAlias = "Client | InDraft | Changing"


def draft_name(context: click.Context, option: click.Parameter, name: str | None) -> str | None:
    """A name that a draft may have, or None."""
    try:
        return None if name is None else check_name(name)
    except BadValue as bad:
        raise click.BadParameter(f"{bad}; expected {bad.expected}") from None


DRAFT = click.option(
    "--draft",
    metavar="NAME",
    callback=draft_name,
    help="Put it in this draft, and nothing in force.",
)


def asking_with(writer: Writer) -> Answers:
    """What answers questions about the model that a command is to change."""
    if isinstance(writer, InDraft):
        return writer.asking()
    if isinstance(writer, Client):
        return writer
    from drawknife.answers import Answering

    return Answering(writer.keeper.newest()[1], 0, writer.now, seen=lambda _: None)


def writes(command: F) -> F:
    """A command that changes the model of a service, or a model file: passes `writer`, and
    `target`, the file's name if it
    is one.
    """

    @click.option(
        "--model", "model_file", metavar="FILE", help="Change this model file, without a service."
    )
    @click.option(
        "--out",
        metavar="FILE",
        help="With --model: write the result here, and leave that as it is.",
    )
    @DRAFT
    @click.option("--url", envvar="DRAWKNIFE_URL", help=f"The service.  [default: {DEFAULT_URL}]")
    @click.option("--token", envvar="DRAWKNIFE_TOKEN", help="The token to ask it with.")
    @functools.wraps(command)
    def wrapped(
        model_file: str | None,
        out: str | None,
        draft: str | None,
        url: str | None,
        token: str | None,
        **others: Any,
    ) -> Any:
        if model_file is not None:
            if draft is not None:
                raise click.UsageError("a model file has no drafts: --draft is for a service")
            if model_file == "-" and out is None:
                raise click.UsageError(
                    "a model from standard input is written somewhere: name --out FILE"
                )
            from .model_files import file_changing

            with errors_in_words():
                with errors_in_words(model_file):
                    face = file_changing(model_file, out)
                return command(writer=face, target=out or model_file, **others)
        if out is not None:
            raise click.UsageError("--out goes with --model")
        with errors_in_words(), connect(url, token) as client:
            return command(
                writer=client if draft is None else InDraft(client, draft), target=None, **others
            )

    return wrapped  # type: ignore[return-value]


class Apply(NamedTuple):
    """Does changes, or shows what they would do, as the options say."""

    writer: Writer
    target: str | None
    preview: bool
    if_revision: int | None
    yes: bool
    as_json: bool

    def __call__(self, changes: Sequence[dict[str, Any]]) -> None:
        if self.preview:
            previewed = self.writer.preview(changes)
            from .previews import draw_preview

            print_json(previewed) if self.as_json else draw_preview(console(), previewed)
            return
        if self.yes:
            changes = [{**c, "stops": True} if c["kind"] == "endpoint" else c for c in changes]
        elif sys.stdin.isatty() and any(c["kind"] == "folder" for c in changes):
            for doubt in self.writer.check(changes).doubts:
                confirm(f"{doubt} Go on?", abort=True)
        done = self.writer.change(changes, self.if_revision)
        if not self.as_json:
            tell_changed(done, self.target)
        elif self.target != "-":
            print_json(done)


def put(kind: Kind, data: dict[str, Any], is_there: bool) -> dict[str, Any]:
    """The change that keeps an item, as the model file has it, in the place of one of its name that
    may be there.
    """
    if not is_there:
        return {"op": "add", "kind": kind.name, "item": data}
    values = {field.name: data.get(field.name) for field in kind.fields[1:]}
    return {"op": "change", "kind": kind.name, "name": data[kind.key], "set": values}


def edits(command: F) -> F:
    """A command that changes the model: adds the options of all such commands, and passes `apply`.

    `apply(changes)` does the changes, or shows what they would do.
    """

    @click.option("--preview", is_flag=True, help="Show what it would do, and do nothing.")
    @click.option(
        "--if-revision", type=int, metavar="N", help="Only if revision N is the one in force."
    )
    @click.option(
        "--yes",
        is_flag=True,
        help="Do not ask: of a name that looks like a slip, or of an endpoint that stops.",
    )
    @click.option("--json", "as_json", is_flag=True, help="Print JSON.")
    @functools.wraps(command)
    def wrapped(
        writer: Writer,
        target: str | None,
        preview: bool,
        if_revision: int | None,
        yes: bool,
        as_json: bool,
        **others: Any,
    ) -> None:
        if target is not None and if_revision is not None:
            raise click.UsageError("a model file has no revisions: leave --if-revision out")
        if isinstance(writer, InDraft) and if_revision is not None:
            raise click.UsageError(
                "a draft is of no revision: --if-revision goes with `draft apply`"
            )
        command(apply=Apply(writer, target, preview, if_revision, yes, as_json), **others)

    return writes(wrapped)  # type: ignore[return-value]


def tell_changed(done: msg.Changed | msg.DraftWritten, target: str | None = None) -> None:
    """One line on standard error for what was done, to a file if `target` is given."""
    if isinstance(done, msg.DraftWritten):
        _tell_drafted(done)
        return
    where = (
        f"revision {done.revision}" if target is None else "the model" if target == "-" else target
    )
    if not done.changed:
        say(f"nothing to change: {where} says so already")
        return
    say(f"{where}: {_in_short(done)}")
    say_followed(done.followed)
    for note in done.notes:
        say(f"  note: {note}")


def _tell_drafted(done: msg.DraftWritten) -> None:
    begun = " (begun with it)" if done.begun else ""
    said = _in_short(done) if done.item_count else "nothing that is not so already"
    say(f"draft {done.draft}{begun}: {said}; nothing of it is in force")
    for would in done.would:
        say(f"  applied now: {would}")
    for note in done.notes:
        say(f"  note: {note}")


def _in_short(done: msg.Changed | msg.DraftWritten) -> str:
    """The first items that differ. What was renamed comes first: the others only name it."""
    named = [_what(x) for x in sorted(done.items, key=lambda x: not _renamed(x))[:4]]
    return ", ".join(named) + (
        f" and {done.item_count - len(named)} more" if done.item_count > len(named) else ""
    )


def say_followed(followed: Sequence[str]) -> None:
    """What followed from a change, a sentence each."""
    for said in followed:
        say(f"  {said}")


def _called(item: Any) -> Any:
    return item.get("name", item.get("path")) if isinstance(item, dict) else item


def _renamed(x: msg.ItemChange) -> bool:
    """Is it an item that has another name than before?"""
    return None not in (x.before, x.after) and _called(x.before) != _called(x.after)


def _what(x: msg.ItemChange) -> str:
    if _renamed(x):
        return f"renamed {x.section.replace('_', ' ')} {_called(x.before)} to {_called(x.after)}"
    verb = "added" if x.before is None else "removed" if x.after is None else "changed"
    return f"{verb} {x.section.replace('_', ' ')} {x.name}"


# --- options ------------------------------------------------------------------------------------


def option_name(key: Field) -> str:
    return key.name.replace("_", "-")


class KeyName(click.Choice[str]):
    """The name of a key, as it is printed or as the option is written: with underscores
    or hyphens.
    """

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> str:
        return super().convert(str(value).replace("_", "-"), param, ctx)


def member(text: str) -> str:
    """A member of a group; a bare name is an account."""
    return text if ":" in text else f"account:{text}"


def _lines(key: Field, given: Sequence[str]) -> list[str]:
    return [member(x) for x in given] if key.name == "members" else list(given)


def terms(command: F) -> F:
    """Options for lines that are added: until when they count, and why they are there."""
    made: Any = click.option("--note", metavar="TEXT", help="Why it is there.")(command)
    found: F = click.option(
        "--until", metavar="DAY", help="The last day (UTC) that it counts, such as 2031-04-30."
    )(made)
    return found


def with_terms(
    lines: Sequence[str], until: str | None, note: str | None, key: str = "line"
) -> list[Any]:
    """Lines as the model file has them, with their end and note."""
    given = {name: value for name, value in (("until", until), ("note", note)) if value is not None}
    return [{key: line, **given} if given else line for line in lines]


def options_of(kind: str, *, leave_out: tuple[str, ...] = (), changing: bool) -> Callable[[F], F]:
    """Options for the keys of an item.

    `changing` adds those that take lines away or clear a key.
    """
    keys = [k for k in fields_of(kind) if k.name not in (*leave_out, "name", *OF_A_DIRECTORY)]

    def decorate(command: F) -> F:
        made: Any = command
        if changing:
            made = click.option(
                "--clear",
                multiple=True,
                metavar="KEY",
                type=KeyName([option_name(k) for k in keys]),
                help="Take a key back to its default.",
            )(made)
        for key in reversed(keys):
            made = _option(key, changing)(made)
        return made  # type: ignore[no-any-return]

    return decorate


def _option(key: Field, changing: bool) -> Callable[[F], F]:
    about = key.about[0].upper() + key.about[1:] + ("" if key.about.endswith("?") else ".")
    if key.many:
        word = key.word

        def both(command: F) -> F:
            made: Any = command
            if changing:
                made = click.option(
                    f"--drop-{word}", f"drop_{key.name}", multiple=True, help="Take this line away."
                )(made)
            return click.option(f"--{word}", f"add_{key.name}", multiple=True, help=about)(made)  # type: ignore[no-any-return]

        return both
    name = option_name(key)
    if key.schema.get("type") == "boolean":
        return click.option(f"--{name}/--not-{name}", key.name, default=None, help=about)
    choices = key.schema.get("enum")
    kind = click.Choice(choices) if choices else None
    return click.option(
        f"--{name}", key.name, type=kind, metavar=None if choices else "VALUE", help=about
    )


def value_of(key: Field, text: Any) -> Any:
    """What was written on the command line as the model file would have it: numbers as numbers."""
    if not isinstance(text, str) or key.schema.get("type") == "string" or "enum" in key.schema:
        return text
    if text.isdecimal():
        return int(text)
    for read in (read_size, read_duration):
        try:
            read(text)
            return text
        except BadValue:
            continue
    return text


def item_from(kind: str, given: dict[str, Any]) -> dict[str, Any]:
    """The item that the options of an ``add`` describe."""
    item = {}
    for key in fields_of(kind):
        if key.many and given.get(f"add_{key.name}"):
            item[key.name] = _lines(key, given[f"add_{key.name}"])
        elif not key.many and given.get(key.name) is not None:
            item[key.name] = value_of(key, given[key.name])
    return item


def change_from(kind: str, name: str, given: dict[str, Any]) -> dict[str, Any]:
    """The change that the options of a ``change`` describe; wrong usage if it is none."""
    to_set: dict[str, Any] = {}
    add: dict[str, list[str]] = {}
    drop: dict[str, list[str]] = {}
    for key in fields_of(kind):
        if key.many:
            if given.get(f"add_{key.name}"):
                add[key.name] = _lines(key, given[f"add_{key.name}"])
            if given.get(f"drop_{key.name}"):
                drop[key.name] = _lines(key, given[f"drop_{key.name}"])
        elif given.get(key.name) is not None:
            to_set[key.name] = value_of(key, given[key.name])
    for cleared in given.get("clear") or ():
        to_set[cleared.replace("-", "_")] = None
    if not (to_set or add or drop):
        raise click.UsageError("name something to change; --help tells what there is")
    named = {} if kind == NETWORK else {"name": name}
    return {"op": "change", "kind": kind, **named, "set": to_set, "add": add, "drop": drop}
