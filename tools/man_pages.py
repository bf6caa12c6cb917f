"""Writes the man pages of all commands, from their help, into a folder: python -m tools.man_pages
FOLDER
"""

from __future__ import annotations

import sys
from pathlib import Path

from click_man.core import write_man_pages

from drawknife import __version__
from drawknife.cli.main import main

if __name__ == "__main__":
    folder = Path(sys.argv[1])
    for name in main.list_commands(None):
        main.get_command(None, name)  # each is loaded when it is asked for
    folder.mkdir(parents=True, exist_ok=True)
    write_man_pages("drawknife", main, version=__version__, target_dir=str(folder))
