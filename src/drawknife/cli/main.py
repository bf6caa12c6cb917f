"""The command `drawknife`."""

from __future__ import annotations

import os
import sys
from importlib import import_module
from typing import Any

import click
from click.shell_completion import get_completion_class

from drawknife import __version__

from .verbosity import VERBOSITY, accept_everywhere, options

# The command line that httpx has of its own is not needed here, and takes as long to load as all
# the rest of it.
sys.modules.setdefault("httpx._main", None)  # type: ignore[arg-type]
# pydantic would look through all packages that are installed for plugins of its own: a tenth of a
# small question.
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")

#: The module of each command: only that one is loaded, so that a command in a script does not wait
#: for the others.
MODULES = {
    name: module
    for module, names in {
        "serve": "serve",
        "config": "config",
        "install_files": "install-files",
        "database": "database",
        "model": "load dump check schema findings finding",
        "accounts": "account standing",
        "people": "group unit ways without",
        "directories": "directory sync",
        "places": "store folder vpath endpoint",
        "items": "entry grant setting quota",
        "way_in": "reach network lockout",
        "limits": "headroom usage limits handover censuses",
        "census": "census",
        "access": "access list who compare find",
        "map": "map",
        "why": "why decide",
        "mending": "mend",
        "idle": "idle",
        "rehearse": "rehearse",
        "trials": "try trial",
        "servers": "compare-server",
        "patterns": "pattern",
        "promises": "promise",
        "disk": "disk",
        "history": "journal when back back-to",
        "drafts": "draft",
        "administrators": "administrator token",
        "reports": "report",
    }.items()
    for name in names.split()
}


#: The packages that only a part of the product needs, which is installed with it:
#: `drawknife[server]`.
OF_THE_SERVER = (
    "flask",
    "flask_openapi3",
    "waitress",
    "psycopg",
    "psycopg_pool",
    "argon2",
    "ldap3",
    "prometheus_client",
    "reportlab",
    "xlsxwriter",
    "openpyxl",
    "pypdf",
    "scim2_models",
)
OF_THE_REHEARSAL = ("asyncssh", "structlog")


class Commands(click.Group):
    """The commands, each loaded when it is called."""

    def main(self, *args: Any, **more: Any) -> Any:
        VERBOSITY.verbose = VERBOSITY.quiet = False
        try:
            return super().main(*args, **more)
        finally:
            VERBOSITY.stop_progress()

    def invoke(self, ctx: click.Context) -> object:
        try:
            return super().invoke(ctx)
        except ModuleNotFoundError as error:
            missing = (error.name or "").partition(".")[0]
            if missing not in OF_THE_SERVER + OF_THE_REHEARSAL:
                raise
            of_it = missing in OF_THE_SERVER or ctx.invoked_subcommand == "serve"
            extra = "server" if of_it else "rehearsal"
            from .common import FAILED, fail

            fail(
                FAILED,
                f"that is not installed here: pip install 'drawknife[{extra}]' ({error.name} is"
                " missing)",
            )

    def list_commands(self, ctx: click.Context) -> list[str]:
        return sorted({*super().list_commands(ctx), *MODULES})

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in self.commands and cmd_name in MODULES:
            import_module(f".{MODULES[cmd_name]}", __package__).add_to(self)
        found = super().get_command(ctx, cmd_name)
        if found is not None:
            accept_everywhere(found)
        return found


CONTEXT = {"help_option_names": ["-h", "--help"], "max_content_width": 100}


@click.group(cls=Commands, context_settings=CONTEXT)
@click.version_option(__version__, prog_name="drawknife")
def main() -> None:
    """What each account of a file transfer server can really do, and why.

    \b
    Examples:
      drawknife access ines                     what ines can do, everywhere
      drawknife why fulmar upload /charts/x     why it is refused, and what else is in the way
      drawknife who download /soundings         everybody who can, and through what
      drawknife check demo/tidewrack.yaml       is a model file sound?

    A service is asked: --url and --token, or DRAWKNIFE_URL and DRAWKNIFE_TOKEN, or the
    configuration file. With --model FILE a command works on a model file instead.

    \b
    Exit status: 0 done or allowed, 1 refused or not as expected, 2 wrong usage,
    3 no service, or it failed. With --json, errors are JSON on standard error.
    """


main.params += options()


@main.command()
@click.argument("shell", type=click.Choice(["bash", "zsh", "fish"]))
def completion(shell: str) -> None:
    """Print the completion script of a shell.

    \b
    Example:
      drawknife completion bash > ~/.local/share/bash-completion/completions/drawknife
    """
    from .common import NOT_SO, fail

    kind = get_completion_class(shell)
    if kind is None:
        fail(NOT_SO, f"no completion for {shell}")
    click.echo(kind(main, {}, "drawknife", "_DRAWKNIFE_COMPLETE").source())
