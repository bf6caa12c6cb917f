"""Links by mail with which somebody signs a report who is no administrator. Each is good once.

Whoever opens one sees that report and nothing else. The code stands in the address's fragment, so
that no server's log has it, and only its digest is kept.
"""

from __future__ import annotations

from datetime import timedelta
from email.errors import MessageError
from email.headerregistry import Address

from drawknife import messages as msg
from drawknife.core.words.errors import BadInput, NotFound, Refused
from drawknife.core.words.plain import hidden_in
from drawknife.core.words.roles import DRAFTER, covers
from drawknife.core.words.sizes import number_of
from drawknife.records import reports
from drawknife.records.journal import note
from drawknife.records.reports import KeptReport, Link
from drawknife.records.tokens import Holder

from .current import Current
from .signing import Signer
from .tidings import MailRefused, NotTaken

#: Where the page is that opens them.
PAGE = "/review"


def send_link(
    current: Current, kept: KeptReport, wanted: msg.NewReviewLink, holder: Holder
) -> msg.ReviewLink:
    """Mail a link.

    :class:`Refused` where no mail can be sent, :class:`MailRefused` where it was not taken.
    """
    address = _address(wanted.to)
    if current.mail is None or current.public_url is None:
        raise Refused(
            "no mail can be sent: the service needs --mail-server, --mail-from, --mail-to, and"
            " --public-url for the link"
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
        raise MailRefused(f"the mail was not taken: {error}") from None
    note(
        current.database,
        holder.name,
        f"sent {address} a link to sign report {kept.number}, about {kept.about}",
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
        found = Address(addr_spec=text.strip()).addr_spec
    except (MessageError, ValueError, IndexError):
        found = ""
    if not found or hidden_in(found) is not None:
        raise BadInput("to", f"{text!r} is not a mail address", "such as edda@tidewrack.example")
    return found


def _letter(
    current: Current, kept: KeptReport, code: str, wanted: msg.NewReviewLink, holder: Holder
) -> str:
    return (
        f"{holder.by} asks you to review who has access.\n\n{kept.document['title']} (report"
        f" {kept.number})\n\n{current.public_url}{PAGE}#{code}\n\nDecide for each row whether to"
        " keep it or to take it away, then sign. The link works once, and for"
        f" {number_of(wanted.days, 'day')}. Whoever has it can sign in your name: do not pass it"
        " on.\nNothing changes by your signature alone: an administrator applies what you"
        " decide.\n"
    )


def opened(current: Current, code: str) -> tuple[Link, KeptReport, Signer] | None:
    """The report that a code opens, and who signs it; None where the link is not good, or its
    sender may no more.
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
