"""The configuration file of a service: the options of `serve`, as TOML."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path
from typing import Any

import click

from drawknife.core.words.errors import nearest


def read_config(path: Path, command: click.Command) -> dict[str, Any]:
    """What a file says for the options of a command, by the names of their parameters.

    :class:`click.BadParameter` with the line for what is no TOML, for a key that no option has, and
    for a value that it cannot have.
    """
    try:
        text = path.read_text()
        data = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise click.BadParameter(f"{path}: {error}") from None
    if (
        re.search(r"://[^/@\s]*:[^/@\s]+@|password\s*=", str(data.get("database", "")))
        and path.stat().st_mode & 0o007
    ):
        where = f"{path}, line {_line(text, 'database')}: database"
        raise click.BadParameter(
            f"{where}: it holds a password, and others can read the file; chmod o= {path}, or use"
            " database_file"
        )
    context = click.Context(command)
    options = {
        key_of(p): p for p in command.params if isinstance(p, click.Option) and p.name != "config"
    }
    found = {}
    for key, value in data.items():
        option = options.get(key)
        where = f"{path}, line {_line(text, key)}: {key}"
        if option is None:
            near = nearest(key, list(options))
            raise click.BadParameter(
                f"{where}: there is no such option{f'; did you mean {near}?' if near else ''}"
            )
        if wrong := _wrong(option, value):
            raise click.BadParameter(f"{where}: {wrong}")
        try:
            option.process_value(context, value)
        except click.BadParameter as bad:
            raise click.BadParameter(f"{where}: {bad.message}") from None
        assert option.name is not None
        found[option.name] = value
    return found


def key_of(option: click.Option) -> str:
    """What an option is called in a configuration file: `token_file` for --token-file."""
    return max(option.opts, key=len).lstrip("-").replace("-", "_")


def _line(text: str, key: str) -> int:
    """The line in which a key stands: `key = …`, `key.more = …` or `[key]`."""
    heads = [
        re.split(r"[=.\]]", line.lstrip("[ \t"), maxsplit=1)[0].strip("\"' \t")
        for line in text.splitlines()
    ]
    return heads.index(key) + 1 if key in heads else 1


def _wrong(option: click.Option, value: Any) -> str:
    """What is wrong with the kind of a value; what it says is looked at as on the command line."""
    if option.is_flag:
        return "" if isinstance(value, bool) else "expected true or false"
    if option.multiple:
        return (
            ""
            if isinstance(value, list) and all(isinstance(x, str) for x in value)
            else "expected a list of texts"
        )
    if isinstance(option.type, click.types.IntParamType):
        return "" if isinstance(value, int) and not isinstance(value, bool) else "expected a number"
    return "" if isinstance(value, str) else "expected a text"
