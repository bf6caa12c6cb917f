"""What a server needs besides the package: a unit of systemd, a configuration and alerts to start
from, and where they go.
"""

from __future__ import annotations

import grp
import os
import sys
from contextlib import suppress
from importlib.resources import files
from pathlib import Path
from typing import NamedTuple

#: The executable that the unit names, as it stands in the file here.
EXECUTABLE = "/opt/drawknife/bin/drawknife"
GROUP = "drawknife"


class Placed(NamedTuple):
    """A file or link that was put in place.

    `kept`: another one was there, was kept, and the new one lies beside it.
    """

    path: Path
    kept: bool = False


def place(root: Path, prefix: Path | None = None) -> list[Placed]:
    """Put unit, configuration, alerts, command, man pages and completions in place below `root`;
    those that differ are kept.

    `prefix` is the installation, by default this one. What is there already and the same is not
    touched. OSError where something cannot be written.
    """
    prefix = prefix or Path(sys.prefix)
    done = []
    for folder in ("etc/drawknife", "etc/drawknife/files"):
        _make_folder(root / folder)
    unit = (files(__package__) / "drawknife.service").read_text()
    unit = unit.replace(EXECUTABLE, str(prefix / "bin" / "drawknife"))
    done += _write(root / "etc/systemd/system/drawknife.service", unit, 0o644)
    example = (files(__package__) / "drawknife.toml").read_text()
    done += _write(root / "etc/drawknife/drawknife.toml", example, 0o640)
    alerts = (files(__package__) / "drawknife.alerts.yaml").read_text()
    done += _write(root / "etc/drawknife/alerts.yaml", alerts, 0o644)
    links = {"bin/drawknife": prefix / "bin" / "drawknife"}
    for folder in (
        "man/man1",
        "bash-completion/completions",
        "zsh/site-functions",
        "fish/vendor_completions.d",
    ):
        for page in sorted((prefix / "share" / folder).glob("*drawknife*")):
            links[f"share/{folder}/{page.name}"] = page
    for name, target in links.items():
        done += _link(root / "usr/local" / name, target)
    return done


def _make_folder(path: Path) -> None:
    if not path.is_dir():
        path.mkdir(parents=True, mode=0o755)
        path.chmod(0o750)
        _give_to_group(path)


def _give_to_group(path: Path) -> None:
    """The service's group reads it, where there is one and this process may say so."""
    with suppress(KeyError, PermissionError):
        os.chown(path, -1, grp.getgrnam(GROUP).gr_gid)


def _write(path: Path, text: str, mode: int) -> list[Placed]:
    if path.exists() and path.read_text() == text:
        return []
    path.parent.mkdir(parents=True, exist_ok=True)
    kept = path.exists()
    to = path.with_name(path.name + ".new") if kept else path
    partial = to.with_name(f".{to.name}.partial")
    partial.unlink(missing_ok=True)
    fd = os.open(partial, os.O_WRONLY | os.O_CREAT | os.O_EXCL, mode)
    with open(fd, "w", encoding="utf-8") as file:
        file.write(text)
        os.fchmod(fd, mode)
    if mode & 0o004 == 0:
        _give_to_group(partial)
    partial.replace(to)
    return [Placed(to, kept)]


def _link(path: Path, target: Path) -> list[Placed]:
    if path.is_symlink() and path.readlink() == target:
        return []
    if path.is_symlink() or path.exists():
        return [Placed(path, True)]
    path.parent.mkdir(parents=True, exist_ok=True)
    path.symlink_to(target)
    return [Placed(path)]
