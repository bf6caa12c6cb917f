"""What a change would do, drawn for people: the items that differ, and all that follows from it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from drawknife import messages as msg
from drawknife.answers.summaries import rights_in_words
from drawknife.core.model import values
from drawknife.core.model.items import UNLIMITED
from drawknife.core.model.kinds import EVERY, OF_SECTION, SETTINGS
from drawknife.core.words.quantities import read_size
from drawknife.core.words.sizes import number_of, several, show_size, show_sizes

from .common import shown_value
from .marks import line_message, line_of

#: More items, lines and names than these are counted.
ITEMS, LINES, FEW = 40, 40, 6
#: The keys of items that hold a size.
SIZES = {
    f.name
    for kind in EVERY
    for f in kind.fields
    if f.schema in (values.SIZE, values.unlimited(values.SIZE))
}


def draw_preview(out: Console, previewed: msg.Preview) -> None:
    """What a change would do: the items, then what follows from it."""
    for note in previewed.notes:
        out.print(
            Padding(Text("note: ", "yellow").append(note, "default"), (0, 0, 0, 0), expand=False)
        )
    if not previewed.item_count:
        out.print("It changes nothing.", style="dim")
        return
    out.print(
        Text(
            f"{previewed.item_count} item{'s' if previewed.item_count > 1 else ''} would change",
            "bold",
        )
    )
    for x in previewed.items[:ITEMS]:
        draw_item(out, x)
    if previewed.item_count > ITEMS:
        out.print(f"  … and {previewed.item_count - ITEMS} more", style="dim")
    draw_follows(out, previewed)


def draw_follows(out: Console, follows: msg.Follows) -> None:
    """Everything that follows, for whom, and lines that change nothing with the reasons."""
    if follows.nothing:
        out.print(
            "\nNothing follows: nobody gains or loses anything, anywhere, and no finding comes or"
            " goes.",
            style="dim",
        )
    elif not _concerns_anybody(follows):
        out.print(
            f"\nNobody gains or loses anything, anywhere{', now' if follows.later else ''}.",
            style="dim",
        )
    for word, names, count in (
        ("new", follows.come, follows.come_count),
        ("gone", follows.gone, follows.gone_count),
    ):
        if count:
            out.print(Text(f"\n{word}: ", "bold").append(several(names, FEW, count), "default"))
    _draw_sign_in(out, follows.sign_in)
    _draw_all_access(out, follows)
    if follows.on_disk is not None:
        _draw_on_disk(out, follows.on_disk)
    for x in follows.leads[:LINES]:
        if x is follows.leads[0]:
            out.print(Text("\nWhere locations lead", "bold"))
        line = Text("  ").append(several(x.accounts, FEW, x.account_count), "bold")
        out.print(line.append(f"  {x.location}: {x.before or 'nowhere'} → {x.after or 'nowhere'}"))
    draw_settings(out, follows.settings)
    _draw_room(out, follows.room)
    _draw_lines(out, "For everybody", [Text(line) for line in follows.for_everybody])
    _draw_lines(
        out,
        "New findings",
        [Text("! ", "yellow").append(f.text, "default") for f in follows.new_findings],
    )
    _draw_lines(
        out, "Mended", [Text("! ", "green").append(f.text, "default") for f in follows.mended]
    )
    _draw_without_effect(out, follows.without_effect)
    for said in follows.left_out:
        out.print(Text(f"\n{said}", "dim"))
    for later in follows.later:
        out.print(Text(f"\nFrom {later.day} on", "bold underline"))
        draw_follows(out, later.follows)


def _concerns_anybody(follows: msg.Follows) -> bool:
    """Is anybody's access, sign-in or room different, or was something not checked?"""
    on_disk = follows.on_disk.access if follows.on_disk is not None else []
    return bool(
        follows.come_count
        or follows.gone_count
        or follows.sign_in
        or follows.access
        or on_disk
        or follows.leads
        or follows.settings
        or follows.room
        or follows.for_everybody
        or follows.left_out
    )


def _draw_on_disk(out: Console, on_disk: msg.OnDiskMessage) -> None:
    out.print(Text(f"\nWith what the disk of {', '.join(on_disk.stores)} lets through", "bold"))
    draw_access(out, on_disk.access, heading=False)
    if not on_disk.access:
        out.print(
            "  nothing of it: `drawknife disk plan` says what the disk would have to let",
            style="yellow",
        )


def _draw_without_effect(out: Console, lines: Sequence[msg.NoEffectMessage]) -> None:
    if lines:
        out.print(Text("\nWithout effect", "bold"))
    for idle in lines:
        out.print(Padding(Text(idle.line), (0, 0, 0, 2), expand=False))
        for reason in idle.reasons[:6]:
            out.print(Padding(Text(f"as {reason}", "dim"), (0, 0, 0, 4), expand=False))
        if len(idle.reasons) > 6:
            out.print(f"    and {len(idle.reasons) - 6} more reasons", style="dim")


def _draw_sign_in(out: Console, found: Sequence[msg.SignInChangeMessage]) -> None:
    if found:
        out.print(Text("\nSigning in", "bold"))
    together: dict[tuple[str, bool, str], list[str]] = {}
    for s in found:
        together.setdefault(
            (several(s.accounts, FEW, s.account_count), s.may, s.why.replace(s.endpoint, "…")), []
        ).append(s.endpoint)
    for (who, may, why), endpoints in list(together.items())[:LINES]:
        word, style = ("can now sign in", "green") if may else ("can no longer sign in", "red")
        line = Text("  ").append(who, "bold").append(f" {word} ", style)
        out.print(line.append(f"at {', '.join(endpoints)}", "default"))
        if why:
            out.print(
                Padding(Text(why.replace("…", endpoints[0]), "dim"), (0, 0, 0, 4), expand=False)
            )


def _draw_lines(out: Console, heading: str, lines: Sequence[Text]) -> None:
    if lines:
        out.print(Text(f"\n{heading}", "bold"))
    for line in lines:
        out.print(Padding(line, (0, 0, 0, 2), expand=False))


def _draw_all_access(out: Console, follows: msg.Follows) -> None:
    """Access, without the details of what goes or comes with an account, or with signing in at an
    endpoint.
    """
    coming = {("", a): "gains" for a in follows.come} | {("", a): "loses" for a in follows.gone}
    for s in follows.sign_in:
        coming |= {(s.endpoint, a): "gains" if s.may else "loses" for a in s.accounts}
    whole: dict[tuple[str, str], list[str]] = {}
    rest = []
    for a in follows.access:
        words = {coming.get((a.endpoint or "", x)) or coming.get(("", x)) for x in a.accounts}
        word = words.pop() if len(words) == 1 else None
        if word is None or a.account_count > len(a.accounts):
            rest.append(a)
        else:
            whole.setdefault((a.endpoint or "", word), []).extend(a.accounts)
    draw_access(out, rest)
    if whole and not rest:
        out.print(Text("\nAccess", "bold"))
    together: dict[tuple[tuple[str, ...], str], list[str]] = {}
    for (endpoint, word), names in whole.items():
        together.setdefault((tuple(dict.fromkeys(names)), word), []).append(endpoint)
    for (each, word), endpoints in together.items():
        through = ", ".join(e for e in endpoints if e)
        verb = word if len(each) == 1 else word[:-1]
        line = Text("  ").append(several(each, FEW), "bold")
        line.append(f" {verb} ", "red" if word == "loses" else "green")
        what = "all that there is" if "" in endpoints else f"all that there is through {through}"
        out.print(line.append(f"{what} (--json tells each)", "default"))


def draw_access(
    out: Console, found: Sequence[msg.AccessChangeMessage], heading: bool = True
) -> None:
    """Who gains and loses which rights where; the same for all that are told together."""
    if found and heading:
        out.print(Text("\nAccess", "bold"))
    last_named = ""
    for a in found[:LINES]:
        who = several(a.accounts, FEW, a.account_count) + (
            f", through {a.endpoint}" if a.endpoint else ""
        )
        if who != last_named:
            out.print(Text(f"  {who}", "bold"))
        last_named = who
        for word, rights, style in (
            ("gains", a.gained, "green"),
            ("loses", a.lost, "red"),
            ("gets for more files", a.widened, "green"),
            ("keeps for fewer files", a.narrowed, "red"),
        ):
            if rights:
                verb, _, of_which = word.partition(" ")
                verb = verb if a.account_count == 1 else verb[:-1]
                line = Text(f"{verb} {of_which} ".replace("  ", " "), style).append(
                    ", ".join(rights_in_words(rights, a.own, a.others)), "default"
                )
                out.print(Padding(line, (0, 0, 0, 4), expand=False))
        below = f", and {number_of(a.below, 'folder')} below" if a.below else ""
        where = f"at {several(a.locations, FEW, a.location_count)}{below}"
        out.print(Padding(Text(where, "dim"), (0, 0, 0, 4), expand=False))
    if len(found) > LINES:
        out.print(f"  … and {len(found) - LINES} more lines; --json tells them", style="dim")
    if any(x.endswith("/…") for a in found[:LINES] for x in a.locations):
        out.print("  … stands for a folder that is not recorded", style="dim")


def draw_settings(out: Console, found: Sequence[msg.SettingChangeMessage]) -> None:
    """Whose settings change, and for whom the values are set."""
    if found:
        out.print(Text("\nSettings", "bold"))
    for s in found[:LINES]:
        line = Text("  ").append(several(s.accounts, FEW, s.account_count), "bold")
        line.append(
            f"  {s.name}: {shown_setting(s.name, s.before)} → {shown_setting(s.name, s.after)}"
        )
        if s.before_from and s.after_from and s.before_from != s.after_from:
            line.append(
                f"  (of {', '.join(s.after_from)}, in the place of {', '.join(s.before_from)})",
                "dim",
            )
        out.print(line)


def _draw_room(out: Console, found: Sequence[msg.RoomChangeMessage]) -> None:
    if found:
        out.print(Text("\nRoom", "bold"))
    for r in found[:LINES]:
        line = Text("  ").append(several(r.accounts, FEW, r.account_count), "bold")
        out.print(
            line.append(f"  at {r.location}: {_room(r.before)} → {_room(r.after)}", "default")
        )


def _room(room: msg.RoomMessage | None) -> str:
    if room is None or (room.bytes is None and room.files is None):
        return "no limit"
    parts = [show_size(room.bytes)] if room.bytes is not None else []
    parts += (
        [f"{room.files:,} file{'' if room.files == 1 else 's'}"] if room.files is not None else []
    )
    return " and ".join(parts)


def shown_setting(name: str, value: Any) -> str:
    """The value of a setting in a line; sizes as sizes."""
    unit = SETTINGS[name].unit if name in SETTINGS else ""
    return (
        show_size(value)
        if unit.startswith("bytes") and isinstance(value, int)
        else shown_value(value)
    )


def draw_item(out: Console, x: msg.ItemChange) -> None:
    """One item that differs, and its keys that do."""
    sign, style = (
        ("+", "green") if x.before is None else ("-", "red") if x.after is None else ("~", "yellow")
    )
    out.print(
        Text()
        .append(f"  {sign} ", style)
        .append(f"{x.section.replace('_', ' ')} ", "dim")
        .append(x.name, "bold")
    )
    if x.before is None or x.after is None:
        return
    # A unit of which there is only its path to say is told as that.
    before, after = (
        side if isinstance(side, dict) else {"path": side} for side in (x.before, x.after)
    )
    defaults = _defaults(x.section)
    for key in dict.fromkeys((*before, *after)):
        a, b = before.get(key, defaults.get(key)), after.get(key, defaults.get(key))
        if a == b:
            continue
        if isinstance(a or b, list):
            for line in a or []:
                if line not in (b or []):
                    out.print(Text(f"      {key} ", "dim").append(f"- {_line(line)}", "red"))
            for line in b or []:
                if line not in (a or []):
                    out.print(Text(f"      {key} ", "dim").append(f"+ {_line(line)}", "green"))
            if a == [] or b == []:
                said = (
                    f"{'nobody' if a == [] else 'everybody'} →"
                    f" {'nobody' if b == [] else 'everybody'}"
                )
                if key == "only":
                    out.print(Text(f"      {key} ", "dim").append(said))
        else:
            out.print(Text(f"      {key} ", "dim").append(_turned(key, a, b)))


def _turned(key: str, before: Any, after: Any) -> str:
    """How a value has become another: of two sizes in one unit, with the difference."""
    if key in SIZES and before not in (None, UNLIMITED) and after not in (None, UNLIMITED):
        return show_sizes(read_size(before), read_size(after))
    return f"{shown_value(before)} → {shown_value(after)}"


def _line(line: Any) -> Any:
    return line_of(line_message(line)).plain if isinstance(line, dict) else line


def _defaults(section: str) -> dict[str, Any]:
    """What keys that are left out are, as far as they are single values."""
    fields = OF_SECTION[section].fields if section in OF_SECTION else ()
    return {f.name: f.default for f in fields if isinstance(f.default, str | bool) and not f.many}
