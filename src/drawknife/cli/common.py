"""What the commands share: where the answers come from, how they are printed, how
errors are told.
"""

from __future__ import annotations

import csv
import functools
import json
import os
import re
import sys
import tomllib
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from io import StringIO
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any, NoReturn, TypeAlias, TypeVar

import click
from pydantic import BaseModel
from rich.console import Console, ConsoleOptions, RenderableType
from rich.segment import Segment

from drawknife import messages as msg
from drawknife.client import Client, ClientError, Refused, ServiceUnavailable
from drawknife.core.words.errors import Conflict, DrawknifeError, NotFound, OutOfReach
from drawknife.core.words.plain import escaped
from drawknife.formats.mistakes import BadDocument
from drawknife.formats.rows import AT_ONCE, CSV, LINES, rows_text
from drawknife.formats.spreadsheets import guarded

from .verbosity import VERBOSITY

if TYPE_CHECKING:  # what computes is only loaded for a model file: a client needs none of it
    from drawknife.answers import Answering
    from drawknife.core.model.items import Endpoint, Model

#: Exit statuses.
DONE, NOT_SO, WRONG_USAGE, FAILED = 0, 1, 2, 3
#: With which status a command ends that meets an error.
STATUS: dict[type, int] = {DrawknifeError: WRONG_USAGE, Conflict: NOT_SO, OutOfReach: FAILED}
DEFAULT_URL = "http://127.0.0.1:8750"

F = TypeVar("F", bound=Callable[..., Any])


def console(error: bool = False) -> Console:
    """Where to print. Off a terminal there is no colour, and 100 columns."""
    stream = sys.stderr if error else sys.stdout
    width = None if stream.isatty() or os.environ.get("COLUMNS") else 100
    return _Visible(
        file=stream, width=width, highlight=False, soft_wrap=False, emoji=False, markup=False
    )


class _Visible(Console):
    """A console that shows control characters of a text, and does not send them to the terminal."""

    def print(self, *objects: Any, **more: Any) -> None:
        VERBOSITY.stop_progress()
        super().print(*objects, **more)

    def render(
        self, renderable: RenderableType, options: ConsoleOptions | None = None
    ) -> Iterable[Segment]:
        for segment in super().render(renderable, options):
            if segment.control or (segment.text.isascii() and segment.text.isprintable()):
                yield segment
            else:
                yield Segment(escaped(segment.text), segment.style)


def print_text(text: str, nl: bool = True, err: bool = False) -> None:
    """Print a text without style, with its control characters visible."""
    VERBOSITY.stop_progress()
    click.echo(escaped(text), nl=nl, err=err)


def write_output(text: str) -> None:
    """Write a document for a program or a file to standard output, as it is."""
    VERBOSITY.stop_progress()
    sys.stdout.write(text)


def say(text: str) -> None:
    """A message for people, on standard error; not with -q."""
    if not VERBOSITY.quiet:
        print_text(text, err=True)


def moment(at: datetime | None) -> str:
    """A time to the minute, with its zone; ``never`` for none."""
    return "never" if at is None else f"{at.astimezone(UTC):%Y-%m-%d %H:%M} UTC"


def confirm(question: str, abort: bool = False) -> bool:
    """Ask for confirmation on the terminal; with `abort` the command ends without it."""
    VERBOSITY.stop_progress()
    return click.confirm(question, abort=abort, err=True)


@contextmanager
def counting(word: str) -> Iterator[Callable[[str], None]]:
    """A line on a terminal that says how far something is; pass it what there is by now."""
    from rich.progress import Progress, SpinnerColumn, TextColumn, TimeElapsedColumn

    VERBOSITY.stop_progress()
    with Progress(
        SpinnerColumn(),
        TextColumn("{task.description}"),
        TimeElapsedColumn(),
        console=console(error=True),
        transient=True,
        disable=not VERBOSITY.shows_progress,
    ) as bar:
        task = bar.add_task(word, total=None)
        yield lambda text: bar.update(task, description=text)


class ExportedText(click.ParamType[IO[str]]):
    """A text file that another program exported, as lines: UTF-8, or UTF-16 with its mark.

    ``-`` is standard input.
    """

    name = "file"

    def convert(
        self, value: Any, param: click.Parameter | None, ctx: click.Context | None
    ) -> IO[str]:
        """The text; a usage error if it cannot be read or is in another encoding."""
        from drawknife.core.words.errors import BadInput
        from drawknife.formats.exported import exported_text

        if not isinstance(value, str):
            return value  # type: ignore[no-any-return]
        try:
            with click.open_file(value, "rb") as file:
                data = file.read()
            found = StringIO(exported_text(data, value), newline="")
        except OSError as error:
            self.fail(f"{value!r}: {error.strerror}", param, ctx)
        except BadInput as bad:
            self.fail(f"{bad}; expected {bad.expected}", param, ctx)
        found.name = "<stdin>" if value == "-" else value
        return found


def tell_notes(out: Console, notes: Sequence[str]) -> None:
    """What was not asked, after an answer."""
    for note in notes:
        out.print(f"  {note}", style="dim")


def fail(
    status: int, text: str, faults: list[msg.Fault] | None = None, source: str = ""
) -> NoReturn:
    """Print an error with each place to standard error, and exit with `status`.

    With ``--json`` it is JSON.
    """
    context = click.get_current_context(silent=True)
    if context is not None and context.params.get("as_json"):
        places = [fault.model_dump(exclude_none=True) for fault in faults or []]
        click.echo(json.dumps({"error": text, "exit_status": status, "places": places}), err=True)
        raise SystemExit(status)
    say(f"drawknife: {text}")
    for fault in faults or []:
        place = (
            f"{source}:{fault.line}: "
            if source and fault.line
            else f"line {fault.line}: "
            if fault.line
            else ""
        )
        where = f"{fault.where}: " if fault.where and fault.where not in fault.message else ""
        expected = f"; expected {fault.expected}" if fault.expected else ""
        nearest = (
            f"; did you mean {fault.nearest!r}?"
            if fault.nearest and "did you mean" not in fault.message
            else ""
        )
        say(f"  {place}{where}{fault.message}{expected}{nearest}")
    raise SystemExit(status)


def faults_of(error: DrawknifeError) -> list[msg.Fault]:
    """What is wrong, place by place."""
    return [msg.Fault(**{**p._asdict(), "found": None}) for p in error.places]


def settings_file() -> dict[str, str]:
    """What the configuration file says: `url`, and `token` or `token_file`."""
    path = Path(click.get_app_dir("drawknife")) / "config.toml"
    try:
        found = tomllib.loads(path.read_text())
    except FileNotFoundError:
        return {}
    except (OSError, ValueError) as error:
        fail(WRONG_USAGE, f"{path} cannot be read: {error}")
    known = {k: str(v) for k, v in found.items() if k in ("url", "token", "token_file")}
    if "token" in known:
        check_private(path)
    if "token_file" in known and "token" not in known:
        known["token"] = _read_token(known["token_file"])
    return known


def check_private(path: Path) -> None:
    """Leave, with the remedy, if others than its owner can read a file that holds a secret."""
    mode = path.stat().st_mode & 0o777
    if mode & 0o077:
        fail(
            WRONG_USAGE,
            f"others can read {path} (its mode is {mode:o}), and it holds a token: chmod 600"
            f" {path}",
        )


def _read_token(path: str) -> str:
    try:
        check_private(Path(path).expanduser())
        return Path(path).expanduser().read_text().strip()
    except OSError as error:
        fail(WRONG_USAGE, f"the token's file cannot be read: {error}")


def connect(url: str | None, token: str | None) -> Client:
    """A client by option, environment, or configuration file, in this order."""
    written = settings_file() if not (url and token) else {}
    found = token or written.get("token")
    if not found:
        fail(
            WRONG_USAGE,
            "no token: set DRAWKNIFE_TOKEN to one (./run demo prints how), or give --model FILE to"
            " work on a file",
        )
    client = Client(url or written.get("url") or DEFAULT_URL, found)
    if VERBOSITY.verbose:
        client.tell_requests(lambda line: print_text(line, err=True))
    VERBOSITY.start_progress()
    return client


def read_model_file(path: str) -> bytes:
    """The bytes of a file, or of standard input for ``-``."""
    try:
        return sys.stdin.buffer.read() if path == "-" else Path(path).read_bytes()
    except OSError as error:
        fail(WRONG_USAGE, f"{path} cannot be read: {error.strerror}")


def model_answers(path: str) -> Answering:
    """Answers about a model file."""
    from drawknife.formats.model_file import read_model

    raw = read_model_file(path)
    VERBOSITY.start_progress()
    try:
        model = read_model(raw)
    except BadDocument as error:
        fail(WRONG_USAGE, f"{path} has mistakes", faults_of(error), path)
    return file_answering(model, Path(path).parent)


def file_answering(model: Model, folder: Path) -> Answering:
    """Answers about a model that was read from a file in `folder`, which the paths in it start
    from.
    """
    from drawknife.answers import Answering, certificates
    from drawknife.core.prepared.prepared import prepare

    now = datetime.now(UTC)

    def seen(endpoint: Endpoint) -> msg.CertificateAnswer | None:
        return certificates.look(
            endpoint, now, lambda file: certificates.read_file(str(folder / file))
        )

    return Answering(prepare(model), 0, now, seen=seen)


Answers: TypeAlias = "Answering | Client"


@contextmanager
def errors_in_words(source: str = "") -> Iterator[None]:
    """Tell every expected error in words, with its exit status."""
    try:
        yield
    except BadDocument as error:
        if not error.of_change:
            fail(WRONG_USAGE, f"{source or 'the document'} has mistakes", faults_of(error), source)
        fail(
            *_failure(
                WRONG_USAGE, error.sentence("the change", len(error.mistakes)), faults_of(error)
            )
        )
    except DrawknifeError as error:
        status = next(STATUS[c] for c in type(error).__mro__ if c in STATUS)
        fail(
            *_failure(status, str(error), [] if isinstance(error, NotFound) else faults_of(error)),
            source,
        )
    except Refused as error:
        problem = error.problem
        status = {401: FAILED, 429: FAILED, 500: FAILED, 507: FAILED, 412: NOT_SO}.get(
            problem.status, WRONG_USAGE
        )
        text = "the token is not valid" if problem.status == 401 else problem.detail
        fail(*_failure(status, text, problem.places), source)
    except ServiceUnavailable as error:
        fail(FAILED, str(error))
    except ClientError as error:
        fail(FAILED, str(error))
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        raise SystemExit(DONE) from None


#: Where a mistake of the only change is, but for the key that it is in.
_CHANGE = re.compile(r"changes\[0\](\.(item|set)\b)?\.?")


def _failure(
    status: int, text: str, places: list[msg.Fault]
) -> tuple[int, str, list[msg.Fault] | None]:
    """A single place that the text tells already only adds what would be right."""
    one = places[0] if len(places) == 1 else None
    if one is None or one.message not in text:
        # Which of the changes it is matters only where there are several.
        alone = (
            bool(places)
            and len({p.where for p in places}) == 1
            and places[0].where.startswith("changes[0]")
        )
        return (
            status,
            text,
            [
                p.model_copy(update={"where": _CHANGE.sub("", p.where)}) if alone else p
                for p in places
            ]
            or None,
        )
    # The very name that was perhaps meant says more than what kind of name would be right.
    if one.nearest:
        text += "" if "did you mean" in text else f"; did you mean {one.nearest}?"
    elif one.expected and one.expected not in text:
        text += f"; expected {one.expected}"
    return status, text, None


AS_OF = click.option(
    "--as-of",
    metavar="REVISION|TIME",
    help="Of the model as it was; times are UTC unless they say.",
)
IN_DRAFT = click.option(
    "--draft", metavar="NAME", help="Of the model as it would be with this draft applied."
)


WITHOUT_DISK = click.option("--without-disk", is_flag=True, help="As if no disk had been read.")


def asked_of(client: Client, as_of: str | None, draft: str | None) -> Client:
    """A client that asks of the past, or of a draft, or of today."""
    if as_of is not None and draft is not None:
        raise click.UsageError("a draft is of today: --draft or --as-of, not both")
    return (
        client.as_of(as_of)
        if as_of is not None
        else client.in_draft(draft)
        if draft is not None
        else client
    )


def asks(command: F) -> F:
    """A command that asks: adds --model, --url, --token, --as-of, --draft and --json, and passes
    `answers` and `as_json`.

    Above it, :data:`WITHOUT_DISK` adds that to what it is asked of.
    """

    @click.option(
        "--model", "model_file", metavar="FILE", help="Work on this model file, without a service."
    )
    @click.option("--url", envvar="DRAWKNIFE_URL", help=f"The service.  [default: {DEFAULT_URL}]")
    @click.option("--token", envvar="DRAWKNIFE_TOKEN", help="The token to ask it with.")
    @AS_OF
    @IN_DRAFT
    @click.option("--json", "as_json", is_flag=True, help="Print JSON.")
    @functools.wraps(command)
    def wrapped(
        model_file: str | None,
        url: str | None,
        token: str | None,
        as_of: str | None,
        draft: str | None,
        **others: Any,
    ) -> Any:
        without_disk = others.pop("without_disk", False)
        with errors_in_words():
            if model_file is not None:
                if as_of is not None:
                    raise click.UsageError("a model file has no history: --as-of is for a service")
                if draft is not None:
                    raise click.UsageError("a model file has no drafts: --draft is for a service")
                found = model_answers(model_file)
                return command(answers=found.without_disks() if without_disk else found, **others)
            with connect(url, token) as client:
                asked = asked_of(client, as_of, draft)
                return command(answers=asked.without_disks() if without_disk else asked, **others)

    return wrapped  # type: ignore[return-value]


def serves(command: F) -> F:
    """A command that needs the service: adds --url and --token, and passes `client`."""

    @click.option("--url", envvar="DRAWKNIFE_URL", help=f"The service.  [default: {DEFAULT_URL}]")
    @click.option("--token", envvar="DRAWKNIFE_TOKEN", help="The token to ask it with.")
    @functools.wraps(command)
    def wrapped(url: str | None, token: str | None, **others: Any) -> Any:
        with errors_in_words(), connect(url, token) as client:
            return command(client=client, **others)

    return wrapped  # type: ignore[return-value]


def print_json(message: BaseModel) -> None:
    """A message as JSON."""
    print_text(message.model_dump_json(by_alias=True, indent=2))


RAW = click.option(
    "--raw",
    is_flag=True,
    help="CSV for programs: no apostrophe before what a spreadsheet would compute.",
)


def as_rows(command: F) -> F:
    """Options for a command that can print its rows for other programs: `rows_as` is the kind, None
    for people.
    """
    made: Any = RAW(command)
    made = click.option(
        "--json-lines", "rows_as", flag_value=LINES, help="Print JSON lines, each as it comes."
    )(made)
    found: F = click.option(
        "--csv", "rows_as", flag_value=CSV, help="Print CSV, each row as it comes."
    )(made)
    return found


def print_rows(rows: Iterable[dict[str, Any]], kind: str, raw: bool) -> bool:
    """Rows for another program, as they come; it is told how far that is, where they go elsewhere
    than to a terminal.

    False if there are none.
    """
    pieces = 0
    with counting("rows") as tell:
        for pieces, piece in enumerate(rows_text(rows, kind, raw), 1):
            write_output(escaped(piece))
            tell(f"rows: {pieces * AT_ONCE:,}")
    return pieces > 0


def write_csv(rows: Iterable[Iterable[Any]], raw: bool) -> None:
    """Rows as CSV (RFC 4180); unless `raw`, a cell that begins like a formula gets an apostrophe
    before it.
    """
    VERBOSITY.stop_progress()
    writer = csv.writer(sys.stdout)
    writer.writerows(rows if raw else (map(guarded, row) for row in rows))


def shown_value(value: Any) -> str:
    """A value of an item or a setting in a line."""
    if isinstance(value, list | tuple):
        flat = [", ".join(v) if isinstance(v, list | tuple) else str(v) for v in value]
        return " and ".join(flat) or "none"
    if isinstance(value, bool):
        return "yes" if value else "no"
    return "none" if value is None else str(value)
