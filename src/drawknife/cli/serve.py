"""`drawknife serve`: run the service."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from importlib.resources import files
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any
from urllib.parse import urlsplit

import click

from drawknife.core.words.names import BadValue
from drawknife.core.words.quantities import read_size

from .common import FAILED, errors_in_words, fail, say
from .config_file import read_config
from .first_start import LINK_FILE, keep_link, make_ready
from .tell_options import check_telling, telling_options, ways_of, when_of
from .verbosity import VERBOSITY

if TYPE_CHECKING:
    from drawknife.records.retention import Retention
    from drawknife.service.proxies import Proxies
    from drawknife.service.tls_certificate import Certificate


def _size(text: str) -> int:
    try:
        return read_size(text)
    except BadValue as bad:
        raise click.BadParameter(f"{bad}; expected {bad.expected}") from None


def _configured(context: click.Context, _: click.Parameter, path: Path | None) -> Path | None:
    """What the configuration file says stands where the command line and the environment say
    nothing.
    """
    if path is not None:
        context.default_map = read_config(path, context.command)
    return path


def _folder(**more: Any) -> click.Path:
    return click.Path(path_type=Path, exists=True, file_okay=False, **more)


def _file(**more: Any) -> click.Path:
    return click.Path(path_type=Path, dir_okay=False, **more)


@click.command(context_settings={"auto_envvar_prefix": "DRAWKNIFE"})
@click.option(
    "--config",
    type=_file(exists=True),
    is_eager=True,
    callback=_configured,
    help=(
        "A TOML file with these options, such as `port = 8750`. What is said here, or in the"
        " environment, goes first."
    ),
)
@click.option("--database", metavar="URL", help="The PostgreSQL database, postgresql://…")
@click.option(
    "--database-file",
    type=_file(exists=True),
    help="A file that holds that, where a password is in it.",
)
@click.option("--host", default="127.0.0.1", show_default=True, help="The address to listen on.")
@click.option(
    "--port",
    default=8750,
    show_default=True,
    type=click.IntRange(0, 65535),
    help="0: one that is free, told as it serves.",
)
@click.option(
    "--tls-cert",
    type=_file(exists=True),
    help="Serve over TLS with this certificate, and those above it, as PEM.",
)
@click.option(
    "--tls-key",
    type=_file(exists=True),
    help="Its key. Files that change are taken up without a stop.",
)
@click.option(
    "--behind-proxy",
    metavar="ADDRESSES",
    help=(
        "Addresses and networks of reverse proxies, such as `127.0.0.1, 10.0.0.0/8`, whose"
        " X-Forwarded headers are trusted."
    ),
)
@click.option(
    "--public-url",
    metavar="URL",
    callback=lambda _, __, value: _public_url(value),
    help="Public address of the console, for links in mail and terminal output.",
)
@click.option(
    "--drain",
    default=0.0,
    show_default=True,
    type=click.FloatRange(0, 600),
    metavar="SECONDS",
    help="Keep answering this long after SIGTERM, with /health/ready at 503.",
)
@click.option(
    "--grace",
    default=8.0,
    show_default=True,
    type=click.FloatRange(0, 600),
    metavar="SECONDS",
    help="Time for requests under way when the socket has closed.",
)
@click.option(
    "--threads",
    default=8,
    show_default=True,
    type=click.IntRange(1, 64),
    help="Requests that a process answers at once.",
)
@click.option(
    "--console",
    "console_folder",
    type=_folder(resolve_path=True),
    help="The console's built files; those of the package, if they are in it.",
)
@click.option(
    "--token-file",
    type=_file(),
    help="Where an administrator's token is kept; made if it is not there.",
)
@click.option(
    "--key-file",
    type=_file(),
    help="The key that directories' bind passwords are encrypted with; made if it is not there.",
)
@click.option(
    "--load",
    "first_model",
    type=_file(exists=True),
    help="A model file for a database that has none yet.",
)
@click.option(
    "--files",
    multiple=True,
    type=_folder(),
    help=(
        "A folder below which files may be read: certificates, lists of people, passwords of"
        " directories. Repeatable."
    ),
)
@click.option(
    "--largest-file",
    "largest",
    default="1 MiB",
    show_default=True,
    metavar="SIZE",
    callback=lambda _, __, v: _size(v),
    help="No file larger than this is read.",
)
@click.option(
    "--processes",
    default=lambda: max(1, min(4, os.cpu_count() or 1)),
    show_default="one a core, at most 4",
    type=click.IntRange(1, 64),
    help="Processes that answer; each has the model in memory.",
)
@click.option(
    "--second-person",
    is_flag=True,
    help="Every change is a draft, which is applied by somebody who wrote none of it.",
)
@click.option(
    "--patterns",
    multiple=True,
    type=_folder(),
    help=(
        "A folder with patterns of your own, YAML files as `pattern show --yaml` prints them."
        " Repeatable."
    ),
)
@click.option(
    "--keep",
    multiple=True,
    metavar="DATA=DAYS",
    callback=lambda _, __, lines: _retention(lines),
    help="Retention period, such as sign-ins=90; see `drawknife database trim --help`. Repeatable.",
)
@click.option(
    "--log-level",
    type=click.Choice(["debug", "info", "warning", "error"]),
    default="warning",
    show_default=True,
    help="Lowest level that is logged; `info` includes every request.",
)
@click.option("--log-requests", is_flag=True, help="The same as --log-level info.")
@telling_options
def serve(**given: Any) -> None:
    """Run the service, until Ctrl-C.

    Applies what is missing of the database's schema. Several services may share one database.
    With --token-file, the first start makes the first owner. Its token goes into that file, and a
    link that signs it in to the console into `sign-in-link` beside it, good once and for a day.
    Each option can also be set in the environment, as DRAWKNIFE_TOKEN_FILE for --token-file.

    \b
    Example:
      drawknife serve --database postgresql://drawknife@127.0.0.1/drawknife \\
          --token-file ~/.config/drawknife/token
    """
    # Each process counts in files of its own in there; whoever counts looks for it when it is first
    # loaded.
    with TemporaryDirectory(prefix="drawknife-") as counters:
        os.environ["PROMETHEUS_MULTIPROC_DIR"] = counters
        _serve(given)


def _serve(given: Mapping[str, Any]) -> None:
    from drawknife.service.files import ReadableFolders
    from drawknife.service.readiness import tell_manager
    from drawknife.service.server import Options, Server, listen

    if wrong := check_options(given):
        raise click.UsageError(wrong)
    database = given["database"] or given["database_file"].read_text().strip()
    host, port, console_folder = (
        given["host"],
        given["port"],
        given["console_folder"] or _own_console(),
    )
    try:
        listening = listen(host, port)
    except OSError as error:
        fail(
            FAILED,
            f"cannot listen on {host}, port {port}: {error.strerror}; give others with --host and"
            " --port",
        )
    port = listening.getsockname()[1]
    code = make_ready(database, given["first_model"], given["token_file"])
    shown = (
        f"http{'s' if given['tls_cert'] else ''}://{f'[{host}]' if ':' in host else host}:{port}"
    )

    if code and given["token_file"]:
        link = f"{given['public_url'] or shown}/sign-in#{code}\n"
        keep_link(given["token_file"].with_name(LINK_FILE), link)

    def ready() -> None:
        say(f"Drawknife serves at {shown}")
        tell_manager("READY=1")

    options = Options(
        database=database,
        console=console_folder,
        key_file=given["key_file"],
        files=ReadableFolders(given["files"], given["largest"], _own_files(given)),
        threads=given["threads"],
        processes=given["processes"],
        log_level=_log_level(given),
        second_person=given["second_person"],
        patterns=given["patterns"],
        certificate=_certificate(given),
        proxies=_proxies(given),
        public_url=given["public_url"],
        retention=given["keep"],
        ways=ways_of(given),
        tell=when_of(given),
        drain=given["drain"],
        grace=given["grace"],
    )
    Server(options, listening, ready).run()


def _log_level(given: Mapping[str, Any]) -> str:
    """Return the log level; -v, -q and --log-requests stand for one, too."""
    if VERBOSITY.quiet:
        return "error"
    return "info" if VERBOSITY.verbose or given["log_requests"] else str(given["log_level"])


def _retention(lines: Sequence[str]) -> Retention:
    from drawknife.records.retention import parse_retention

    try:
        return parse_retention(lines)
    except BadValue as bad:
        raise click.BadParameter(f"{bad}; expected {bad.expected}") from None


def _public_url(value: str | None) -> str | None:
    """The address without a slash at its end."""
    if value is None:
        return None
    try:
        parts = urlsplit(value)
        good = (
            parts.scheme in ("http", "https")
            and parts.hostname
            and parts.port != 0
            and not parts.username
        )
    except ValueError:
        good = False
    if not good or parts.path.strip("/") or parts.query or parts.fragment:
        raise click.BadParameter(f"{value!r} is not an address of a console; expected https://HOST")
    return value.rstrip("/")


def check_options(given: Mapping[str, Any]) -> str:
    """What is wrong with the options, each of which is one; empty if they can be served with."""
    for check in (
        _check_database,
        _check_written_files,
        _check_proxies,
        check_telling,
        _check_secrets_apart,
        _check_secrets_closed,
        _check_certificate,
    ):
        if wrong := check(given):
            return wrong
    if given["patterns"]:
        from drawknife.patterns import all_patterns

        with errors_in_words():
            all_patterns(given["patterns"])  # told now, and not when somebody asks
    return ""


def _check_database(given: Mapping[str, Any]) -> str:
    if bool(given["database"]) == bool(given["database_file"]):
        return "expected one of --database and --database-file"
    if given["database"] and (wrong := _wrong_with_address(given["database"])):
        return f"--database: {wrong}"
    return ""


def _check_written_files(given: Mapping[str, Any]) -> str:
    for option in ("token_file", "key_file"):
        if (path := given[option]) is not None and (wrong := _why_not_written(path)):
            return f"--{option.replace('_', '-')} {path}: {wrong}"
    return ""


def _check_proxies(given: Mapping[str, Any]) -> str:
    if not given["behind_proxy"]:
        return ""
    try:
        _proxies(given)
    except ValueError as bad:
        expected = "addresses and networks, such as 127.0.0.1, 10.0.0.0/8"
        return f"--behind-proxy: {bad}; expected {expected}"
    return ""


def _check_secrets_apart(given: Mapping[str, Any]) -> str:
    for option in _SECRETS:
        path, folder = given[option], _opened_by(given, given[option])
        if folder is not None:
            named = "--" + option.replace("_", "-")
            return (
                f"{named} {path} lies below --files {folder}, where files are read for whoever may"
                f" name them: move the file, or open a folder of its own, such as {folder}/files"
            )
    return ""


def _check_secrets_closed(given: Mapping[str, Any]) -> str:
    for option in ("database_file", "tls_key", "webhook_secret_file", "mail_password_file"):
        path = given[option]
        # A key of TLS is often kept for a group of services.
        others = 0o007 if option == "tls_key" else 0o077
        if path is not None and path.stat().st_mode & others:
            return (
                f"others can read {path} (its mode is {path.stat().st_mode & 0o777:o}), and it"
                f" holds a secret: chmod 600 {path}"
            )
    return ""


def _check_certificate(given: Mapping[str, Any]) -> str:
    if bool(given["tls_cert"]) != bool(given["tls_key"]):
        return "--tls-cert and --tls-key go together"
    try:
        _certificate(given)
    except OSError as error:
        return (
            f"{given['tls_cert']} and {given['tls_key']} are no certificate and its key:"
            f" {error.strerror or error}"
        )
    return ""


def _wrong_with_address(address: str) -> str:
    """What is wrong with the form of a database address; empty if it is well-formed."""
    from psycopg import ProgrammingError, conninfo

    scheme = urlsplit(address).scheme if "://" in address else ""
    if scheme not in ("", "postgresql", "postgres"):
        return f"{scheme}:// is not a PostgreSQL address; expected postgresql://USER@HOST/NAME"
    try:
        conninfo.conninfo_to_dict(address)
    except ProgrammingError:  # what it says may hold the password
        return "not a PostgreSQL address; expected postgresql://USER@HOST/NAME"
    return ""


def _why_not_written(path: Path) -> str:
    """Why a missing file cannot be created, as far as permissions of folders show; empty if it
    exists or can be created.
    """
    if path.exists():
        return ""
    folder = path.parent.resolve()
    while not folder.exists():
        folder = folder.parent
    if not folder.is_dir():
        return f"{folder} is not a folder"
    return (
        "" if os.access(folder, os.W_OK | os.X_OK) else f"this user cannot create files in {folder}"
    )


#: The options that name files with the service's own secrets.
_SECRETS = (
    "database_file",
    "token_file",
    "key_file",
    "tls_key",
    "webhook_secret_file",
    "mail_password_file",
)


def _own_files(given: Mapping[str, Any]) -> tuple[Path, ...]:
    """The files that the options name, the configuration file, and the link of the first start."""
    found = [given[option] for option in _SECRETS if given[option] is not None]
    found += [given["token_file"].with_name(LINK_FILE)] if given["token_file"] is not None else []
    found += [given["config"]] if given["config"] is not None else []
    return tuple(found)


def _opened_by(given: Mapping[str, Any], path: Path | None) -> Path | None:
    """The folder of --files below which a file lies."""
    if path is None:
        return None
    return next((f for f in given["files"] if path.resolve().is_relative_to(f.resolve())), None)


def _certificate(given: Mapping[str, Any]) -> Certificate | None:
    from drawknife.service.tls_certificate import Certificate

    return Certificate(given["tls_cert"], given["tls_key"]) if given["tls_cert"] else None


def _proxies(given: Mapping[str, Any]) -> Proxies:
    from drawknife.service.proxies import Proxies

    return Proxies.read(given["behind_proxy"]) if given["behind_proxy"] else Proxies()


def _own_console() -> Path | None:
    """The console that is in the package: an installed one has it."""
    folder = Path(str(files("drawknife"))) / "console"
    return folder if (folder / "index.html").exists() else None


def add_to(group: click.Group) -> None:
    group.add_command(serve)
