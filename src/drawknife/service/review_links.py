"""Links by mail through which somebody signs a report who is no administrator. Each works once.

A link shows that report and nothing else. Its code is the fragment of the address, so that no log
of a server has it, and only its digest is kept.
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import timedelta
from email.errors import MessageError
from email.headerregistry import Address

from drawknife import messages as msg
from drawknife.core.words.errors import BadInput, NotFound, Refused
from drawknife.core.words.plain import hidden_in
from drawknife.core.words.roles import DRAFTER, READER, covers
from drawknife.core.words.sizes import number_of
from drawknife.records import reports
from drawknife.records.journal import note
from drawknife.records.reports import KeptReport, Link
from drawknife.records.tokens import Holder

from .current import Current
from .security import token_in
from .signing import Signer
from .tidings import MailRefused, NotTaken

#: Where the page is that opens them.
PAGE = "/review"


def send_link(
    current: Current, kept: KeptReport, wanted: msg.NewReviewLink, holder: Holder
) -> msg.ReviewLink:
    """Mail a link.

    :class:`Refused` where the service has no mail server, :class:`MailRefused` where that refused
    the mail.
    """
    address = _address(wanted.to)
    if current.mail is None or current.public_url is None:
        raise Refused(
            "no mail can be sent: start the service with --mail-server, --mail-from, --mail-to, and"
            " with --public-url for the link"
        )
    lasts = timedelta(days=wanted.days)
    code = reports.add_link(current.database, kept.number, address, holder.by, lasts)
    try:
        current.mail.send(
            address,
            f"Please review: {kept.document['title']}",
            _letter(current, kept, code, wanted, holder),
        )
    except NotTaken as error:
        reports.end_link(current.database, code)
        raise MailRefused(f"the mail server refused the mail: {error}") from None
    note(
        current.database,
        holder.name,
        f"sent {address} a link to sign report {kept.number} about {kept.about}",
    )
    sent = reports.link_of(current.database, code)
    if sent is None:  # the report was signed meanwhile
        raise reports.already_signed(kept.number)
    return msg.ReviewLink(
        address=sent.address, sent_by=sent.administrator, sent=sent.sent, expires=sent.expires
    )


def _address(text: str) -> str:
    """A mail address (RFC 5322, addr-spec); :class:`BadInput`."""
    try:
        address = Address(addr_spec=text.strip()).addr_spec
    except (MessageError, ValueError, IndexError):
        address = ""
    if not address or hidden_in(address) is not None:
        raise BadInput("to", f"{text!r} is not a mail address", "such as edda@tidewrack.example")
    return address


def _letter(
    current: Current, kept: KeptReport, code: str, wanted: msg.NewReviewLink, holder: Holder
) -> str:
    return (
        f"{holder.by} asks you to review who has access.\n\n{kept.document['title']} (report"
        f" {kept.number})\n\n{current.public_url}{PAGE}#{code}\n\nFor each row, choose keep or"
        " remove, then sign. The link works once and expires after"
        f" {number_of(wanted.days, 'day')}. Anybody who has the link can sign for you: do not"
        " forward it.\nYour signature alone changes nothing: an administrator applies your"
        " decisions.\n"
    )


def opened(current: Current, code: str) -> tuple[Link, KeptReport, Signer] | None:
    """The link of a code, its report, and who signs it.

    None where there is no such link, it has expired, or its sender can no longer write drafts.
    """
    link = reports.link_of(current.database, code)
    if link is None:
        return None
    try:
        signer = Signer.by_link(current, link)
    except NotFound:
        return None
    if not covers(signer.holder.role, DRAFTER):
        return None
    return link, reports.find(current.database, link.report), signer


def known_by_link(headers: Mapping[str, str], current: Current) -> Holder | None:
    """The signer of a request's link, with WSGI's names of headers, as somebody who may only read.

    The decisions on a long report are more than is received from nobody known.
    """
    link = opened(current, token_in(headers.get("AUTHORIZATION", "")))
    if link is None:
        return None
    *_, signer = link
    return Holder(signer.name, READER, (), signer.holder.by, session=False)
