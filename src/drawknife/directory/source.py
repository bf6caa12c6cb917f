"""Where a directory's entries come from: an LDAP server (RFC 4511), or an LDIF file.

Either way entries come one by one, so that a hundred thousand people need no more room than a page.
"""

from __future__ import annotations

import re
import ssl
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from io import BytesIO
from typing import Any, NamedTuple, Protocol
from urllib.parse import unquote, urlsplit

import ldap3
from ldap3.core.exceptions import LDAPException, LDAPInvalidFilterError
from ldap3.operation import search as ldap_search
from ldap3.utils.conv import escape_filter_chars

from drawknife.core.words.errors import BadInput, OutOfReach
from drawknife.formats.document import BadDocument
from drawknife.formats.ldif import Record, read_ldif
from drawknife.messages import DirectoryOptions
from drawknife.messages.directories import PROVISIONED

from .dn import is_below, normal


class DirectoryFailed(OutOfReach):
    """The directory did not answer, or not in full. Nothing is changed then."""


class DirectorySource(Protocol):
    """Something that can be searched.

    `referrals` are those that were met and not followed, as URLs (RFC 4516).
    """

    referrals: list[str]

    def search(self, base: str, filter_: str, attributes: Sequence[str]) -> Iterator[Record]:
        """The entries at `base` and below it; :class:`DirectoryFailed` if they cannot
        all be had.
        """

    def close(self) -> None: ...


#: The result of a search whose base is elsewhere (RFC 4511, section 4.1.9).
REFERRAL = 10
#: Gives the bytes of a file that may be read; raises :class:`DirectoryFailed`, or an error that
#: says why not.
ReadFile = Callable[[str], bytes]


def open_source(
    options: DirectoryOptions, password: str | None, read_file: ReadFile
) -> DirectorySource:
    """Connect to the server, securely and as told, or read the file."""
    scheme = urlsplit(options.address).scheme
    if scheme in ("ldap", "ldaps"):
        return _Server(options, password, read_file)
    return _File(options.address, read_file(options.address))


def check_can_bind(options: DirectoryOptions) -> None:
    """:class:`DirectoryFailed` if nobody's password can be tried there, or only where others could
    read it.
    """
    scheme = urlsplit(options.address).scheme
    if scheme not in ("ldap", "ldaps"):
        raise DirectoryFailed("it is no server")
    if scheme == "ldap" and not options.start_tls:
        raise DirectoryFailed("passwords would go over the network unprotected")


class Wanted(NamedTuple):
    """Somebody of a directory: what they are called here, and what the directory knows them by, if
    that is known.
    """

    name: str
    known_by: str | None = None


def password_is(
    options: DirectoryOptions, own: str | None, read_file: ReadFile, who: Wanted, password: str
) -> bool:
    """Is it the password of somebody?

    Looked up with the bind of the directory (`own` its password), then bound.

    An empty password is nobody's: servers take a bind with one for a bind without a name (RFC 4513,
    section 5.1.2).
    """
    check_can_bind(options)
    if not password or not who.name.endswith(options.suffix):
        return False
    wanted = _filter_for(options, who)
    if wanted is None:
        return False
    server = _Server(options, own, read_file)
    try:
        found = [
            record.dn
            for record in server.search(options.people_base, wanted, [options.name_attribute])
        ]
        return len(found) == 1 and server.binds(found[0], password)
    finally:
        server.close()


def _filter_for(options: DirectoryOptions, who: Wanted) -> str | None:
    """A search for one person; None if there can be none, as the name is made of others and the
    directory does not know it.
    """
    if options.login_name is None:
        called = escape_filter_chars(who.name.removesuffix(options.suffix))
        return f"(&{options.people_filter}({options.name_attribute}={called}))"
    if who.known_by is None or options.id_attribute is None:
        return None
    values = {escape_filter_chars(who.known_by)}
    with suppress(ValueError):  # what is kept as digits may be bytes there
        values.add("".join(f"\\{byte:02x}" for byte in bytes.fromhex(who.known_by)))
    known = "".join(f"({options.id_attribute}={value})" for value in sorted(values))
    return f"(&{options.people_filter}(|{known}))"


def check_server_address(place: str, address: str) -> None:
    """:class:`BadInput` if an address is not that of a server."""
    if not _is_server(address):
        raise BadInput(
            place, f"{address!r} is no address of a directory server", "ldap://HOST or ldaps://HOST"
        )


def _is_server(address: str) -> bool:
    with suppress(ValueError):
        parts = urlsplit(address)
        named_only = parts.hostname and not (parts.path.strip("/") or parts.query or parts.username)
        return parts.scheme in ("ldap", "ldaps") and bool(named_only) and parts.port != 0
    return False


def check_address(address: str) -> None:
    """:class:`BadInput` if an address is neither that of a server nor a path."""
    if address == PROVISIONED or _is_server(address) or ("://" not in address and address):
        return
    raise BadInput(
        "options.address",
        f"{address!r} is no address of a directory",
        "ldap://HOST, ldaps://HOST, an LDIF file that the service may read, or scim: for what is"
        " sent",
    )


# --- a server -----------------------------------------------------------------------------------


class _Server:
    """A server, and those that it may refer to: they are asked as it is, with the same name and
    password.
    """

    def __init__(
        self, options: DirectoryOptions, password: str | None, read_file: ReadFile
    ) -> None:
        self.options, self._password, self._read_file = options, password, read_file
        self.referrals: list[str] = []
        parts = urlsplit(options.address)
        over_tls = parts.scheme == "ldaps"
        tls = ldap3.Tls(
            validate=ssl.CERT_REQUIRED,
            version=ssl.PROTOCOL_TLS_CLIENT,
            ca_certs_data=_text_of(read_file(options.ca_file)) if options.ca_file else None,
            ca_certs_file=(
                None if options.ca_file else ssl.get_default_verify_paths().cafile or None
            ),
            ca_certs_path=None if options.ca_file else ssl.get_default_verify_paths().capath,
        )
        server = ldap3.Server(
            parts.hostname,
            parts.port or (636 if over_tls else 389),
            use_ssl=over_tls,
            tls=tls,
            get_info=ldap3.NONE,
            connect_timeout=min(options.timeout, 10),
        )
        self._connection = ldap3.Connection(
            server,
            options.bind_name,
            password,
            receive_timeout=options.timeout,
            auto_referrals=False,
            read_only=True,
            raise_exceptions=False,
            authentication=ldap3.SIMPLE if options.bind_name else ldap3.ANONYMOUS,
        )
        try:
            self._open(over_tls)
        except DirectoryFailed:
            self.close()
            raise
        except Exception as error:  # whatever answers there need not be a directory at all
            self.close()
            raise DirectoryFailed(f"{options.address}: {_said(error, parts.hostname)}") from None

    def _open(self, over_tls: bool) -> None:
        connection = self._connection
        connection.open(read_server_info=False)
        if not over_tls and self.options.start_tls:
            self._start_tls()
        if not connection.bind(read_server_info=False):
            raise DirectoryFailed(f"{self.options.address} refused the bind: {_result(connection)}")

    def _start_tls(self) -> None:
        try:
            why = (
                None
                if self._connection.start_tls(read_server_info=False)
                else _result(self._connection)
            )
        except LDAPException as error:
            why = _said(error, urlsplit(self.options.address).hostname)
        if why is not None:
            raise DirectoryFailed(
                f"{self.options.address} did not start TLS: {why}. An ldaps:// address needs no"
                " start_tls; ca_file says which certificates are trusted"
            )

    def search(self, base: str, filter_: str, attributes: Sequence[str]) -> Iterator[Record]:
        """The entries of this server, and of those that it refers to and may refer to, each asked
        once.
        """
        asked, waiting = {(self._place(), normal(base))}, [(self, base)]
        opened: dict[str, _Server] = {}
        try:
            while waiting:
                server, at = waiting.pop(0)
                for found in server._search(at, filter_, attributes):
                    if isinstance(found, Record):
                        yield found
                        continue
                    place, below = _referred(found, at)
                    if place not in self._referred_to:
                        self.referrals.append(found)
                    elif (place, normal(below)) not in asked:
                        asked.add((place, normal(below)))
                        waiting.append((self._opened(place, opened), below))
        finally:
            for server in opened.values():
                server.close()

    def _place(self) -> tuple[str, int]:
        return _host_and_port(self.options.address)

    @property
    def _referred_to(self) -> dict[tuple[str, int], str]:
        """The servers that may be referred to: their addresses, by host and port."""
        return {_host_and_port(address): address for address in self.options.servers_referred_to}

    def _opened(self, place: tuple[str, int], opened: dict[str, _Server]) -> _Server:
        address = self._referred_to[place]
        if address not in opened:
            options = self.options.model_copy(update={"address": address})
            opened[address] = _Server(options, self._password, self._read_file)
        return opened[address]

    def _search(self, base: str, filter_: str, attributes: Sequence[str]) -> Iterator[Record | str]:
        """The entries of this server alone, and the URLs that it refers to."""
        connection, cookie = self._connection, None
        while True:
            try:
                connection.search(
                    base,
                    filter_,
                    ldap3.SUBTREE,
                    attributes=list(attributes),
                    paged_size=self.options.page_size,
                    paged_cookie=cookie,
                    paged_criticality=False,
                )
            except LDAPInvalidFilterError:
                raise DirectoryFailed(f"{filter_} is no search filter (RFC 4515)") from None
            except Exception as error:
                raise DirectoryFailed(f"{self.options.address} broke off: {_said(error)}") from None
            if connection.result["result"] == REFERRAL:
                yield from connection.result.get("referrals") or ()
                return
            if connection.result["result"] != 0:
                raise DirectoryFailed(
                    f"searching {base} failed, or answered in part: {_result(connection)}"
                )
            for entry in connection.response or ():
                if entry.get("type") == "searchResEntry":
                    yield Record(
                        entry["dn"], {k.lower(): v for k, v in entry["raw_attributes"].items()}
                    )
                elif entry.get("type") == "searchResRef":
                    yield entry["uri"][0]  # each of them would do (RFC 4511, section 4.5.3)
            connection.response = None
            controls: dict[str, Any] = connection.result.get("controls") or {}
            cookie = controls.get("1.2.840.113556.1.4.319", {}).get("value", {}).get("cookie")
            if not cookie:
                return

    def binds(self, dn: str, password: str) -> bool:
        """Is it the password of an entry? The connection is the entry's afterwards."""
        try:
            return bool(self._connection.rebind(dn, password, ldap3.SIMPLE, read_server_info=False))
        except Exception as error:
            raise DirectoryFailed(f"{self.options.address} broke off: {_said(error)}") from None

    def close(self) -> None:
        with suppress(Exception):
            self._connection.unbind()


def _host_and_port(address: str) -> tuple[str, int]:
    parts = urlsplit(address)
    return parts.hostname or "", parts.port or (636 if parts.scheme == "ldaps" else 389)


def _referred(url: str, base: str) -> tuple[tuple[str, int], str]:
    """Where a referral leads to (RFC 4516): host and port, and the entry; with none, to that which
    was asked for.
    """
    try:
        return _host_and_port(url), unquote(urlsplit(url).path.lstrip("/")) or base
    except ValueError:  # no port is called that
        return ("", 0), base


def _result(connection: ldap3.Connection) -> str:
    result = connection.result or {}
    message = str(result.get("message") or "").strip()
    return f"{result.get('description', 'no result')}" + (f" ({message[:200]})" if message else "")


def _said(error: Exception, host: str | None = None) -> str:
    text = " ".join(str(error).split())
    names = re.findall(r"\('DNS', '([^']*)'\)", text)
    if "'subjectAltName'" in text and names:
        return f"the certificate is for {', '.join(names)}, not for {host}"
    return text[:300] or type(error).__name__


# --- a file -------------------------------------------------------------------------------------


class _File:
    def __init__(self, name: str, raw: bytes) -> None:
        self.name, self._raw = name, raw
        self.referrals: list[str] = []

    def search(self, base: str, filter_: str, attributes: Sequence[str]) -> Iterator[Record]:
        """The entries at `base` and below it, and those that aliases there lead to, with what is
        below these.
        """
        matches = compile_filter(filter_)
        top, found_base = normal(base), False
        elsewhere: set[str] = set()
        try:
            for record in read_ldif(BytesIO(self._raw)):
                if not is_below(normal(record.dn), top):
                    continue
                found_base = True
                kinds = {kind.lower() for kind in record.attributes.get("objectclass", ())}
                if b"referral" in kinds:
                    self.referrals += map(_read, record.attributes.get("ref", ())[:1])
                elif b"alias" in kinds:
                    elsewhere.update(
                        map(normal, map(_read, record.attributes.get("aliasedobjectname", ())))
                    )
                elif matches(record.attributes):
                    yield record
            elsewhere = {dn for dn in elsewhere if not is_below(dn, top)}
            for record in read_ldif(BytesIO(self._raw)) if elsewhere else ():
                dn = normal(record.dn)
                if any(is_below(dn, target) for target in elsewhere) and matches(record.attributes):
                    yield record
        except BadDocument as bad:
            raise DirectoryFailed(f"{self.name}: {bad.mistakes[0]}") from None
        if not found_base:
            raise DirectoryFailed(f"searching {base} failed: there is nothing at it or below it")

    def close(self) -> None:
        pass


class _Matches(Protocol):
    def __call__(self, attributes: dict[str, list[bytes]]) -> bool: ...


def compile_filter(text: str) -> _Matches:
    """A search filter (RFC 4515) as a function on attributes; values compare whatever
    their case.
    """
    try:
        tree = ldap_search.parse_filter(text, None, True, None, None, False)
    except (LDAPException, ValueError, IndexError):
        raise DirectoryFailed(f"{text} is no search filter (RFC 4515)") from None
    return lambda attributes: _holds(
        tree.elements[0] if tree.tag == ldap_search.ROOT else tree, attributes
    )


def _holds(node: Any, attributes: dict[str, list[bytes]]) -> bool:
    if node.tag == ldap_search.AND:
        return all(_holds(n, attributes) for n in node.elements)
    if node.tag == ldap_search.OR:
        return any(_holds(n, attributes) for n in node.elements)
    if node.tag == ldap_search.NOT:
        return not _holds(node.elements[0], attributes)
    said = node.assertion
    values = [v.lower() for v in attributes.get(_text(said["attr"]).lower(), ())]
    if node.tag == ldap_search.MATCH_PRESENT:
        return bool(values)
    if node.tag == ldap_search.MATCH_EQUAL:
        return _bytes(said["value"]).lower() in values
    if node.tag == ldap_search.MATCH_SUBSTRING:
        parts = [
            _bytes(p).lower()
            for p in (
                said.get("initial") or b"",
                *(said.get("any") or ()),
                said.get("final") or b"",
            )
        ]
        return any(_in_order(v, parts[0], parts[1:-1], parts[-1]) for v in values)
    raise DirectoryFailed("a filter for an LDIF file knows & | ! = =* and * only")


def _in_order(value: bytes, first: bytes, middle: Sequence[bytes], last: bytes) -> bool:
    if not (value.startswith(first) and value.endswith(last)) or len(value) < len(first) + len(
        last
    ):
        return False
    at, end = len(first), len(value) - len(last)
    for part in middle:
        found = value.find(part, at, end)
        if found < 0:
            return False
        at = found + len(part)
    return True


def _read(value: bytes) -> str:
    return value.decode("utf-8", "replace")


def _text_of(raw: bytes) -> str:
    try:
        return raw.decode("ascii")
    except UnicodeDecodeError:
        raise DirectoryFailed("the file of certificates is not PEM") from None


def _text(value: Any) -> str:
    return value.decode() if isinstance(value, bytes) else str(value)


def _bytes(value: Any) -> bytes:
    raw = value if isinstance(value, bytes) else str(value).encode()
    return re.sub(rb"\\([0-9a-fA-F]{2})", lambda found: bytes.fromhex(found[1].decode()), raw)
