"""Questions about accounts: who there is, what each counts as, its settings."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta
from typing import Any

from drawknife import messages as msg
from drawknife.answers.asked import Asked
from drawknife.core.model.items import Account
from drawknife.core.prepared.settings import resolve, resolve_all
from drawknife.core.words.errors import BadInput
from drawknife.core.words.names import fold


class AccountAnswers(Asked):
    """The part of :class:`drawknife.answers.Answering` that is about accounts."""

    def host_users(self) -> msg.HostUsers:
        """The users on the host that accounts act as, each with its accounts."""
        users: dict[str, list[str]] = {}
        for index in range(len(self.prepared.people.accounts)):
            account = self.prepared.people.prepared(index)
            name = resolve(self.prepared, account, "acts_as").value
            if name is not None:
                users.setdefault(name.replace("{account}", account.name), []).append(account.name)
        return msg.HostUsers(revision=self.revision, users=users)

    def accounts(
        self,
        matching: str = "",
        offset: int = 0,
        limit: int | None = None,
        expires_within: int | None = None,
        *,
        off: bool = False,
        locked: bool = False,
        no_credential: bool = False,
        source: str | None = None,
    ) -> msg.AccountList:
        """Accounts whose name, display name, mail or unit holds `matching`, in order of names.

        Only those that expire within so many days (or have), that are switched off, that are locked
        out, that have nothing to sign in with, that come from a directory of this name: each if it
        is asked for.
        """
        found: Sequence[Account] = self.prepared.model.accounts
        if matching:
            wanted = fold(matching)
            found = [
                a
                for a in found
                if wanted in fold(f"{a.name}\n{a.display or ''}\n{a.mail or ''}\n{a.unit or ''}")
            ]
        if expires_within is not None:
            last = self.now.date() + timedelta(days=expires_within)
            found = [a for a in found if a.expires is not None and a.expires <= last]
        if off:
            found = [a for a in found if not a.enabled]
        if source is not None:
            found = [a for a in found if fold(a.source) == fold(source)]
        if no_credential:
            if self.credentials is None:
                raise BadInput(
                    "no_credential", "a model file does not say who has a credential", "a service"
                )
            found = [a for a in found if self._has_credential(a) is False]
        who: frozenset[str] | None = None
        if locked:
            if self.locked is None:
                raise BadInput("locked", "a model file does not say who is locked out", "a service")
            who = self.locked()
            found = [a for a in found if fold(a.name) in who]
        some = found[offset:] if limit is None else found[offset : offset + limit]
        return msg.AccountList(
            revision=self.revision,
            total=len(found),
            accounts=[
                msg.AccountLine(**self._line(a), locked=None if who is None else True) for a in some
            ],
        )

    def _has_credential(self, a: Account) -> bool | None:
        if self.credentials is None or a.kind == "anonymous":
            return None
        return bool(self.credentials.get(a.name, frozenset()) & set(a.methods))

    def _line(self, a: Account) -> dict[str, Any]:
        return {
            "name": a.name,
            "kind": a.kind,
            "display": a.display,
            "mail": a.mail,
            "unit": a.unit,
            "enabled": a.enabled,
            "expires": a.expires,
            "source": a.source,
            "credential": self._has_credential(a),
            "note": a.note,
            "expired": a.expires is not None and self.now.date() > a.expires,
        }

    def account_detail(self, name: str) -> msg.AccountDetail:
        a = self.account(name)
        groups = [s.name for s, rank in a.standing.ranks.items() if rank == (1, 1)]
        home = str(a.account.home) if a.account.home else None
        return msg.AccountDetail(
            **self._line(a.account),
            home=home,
            methods=list(a.account.methods),
            groups=sorted(groups, key=fold),
        )

    def standing(self, name: str) -> msg.StandingAnswer:
        """What an account counts as, nearest first, and its settings."""
        a = self.account(name)
        standing = a.standing
        counted = [
            msg.Counted.model_validate(
                {
                    "subject": str(s),
                    "class": rank.cls,
                    "distance": rank.distance,
                    "chain": [str(x) for x in standing.chain(s)],
                }
            )
            for s, rank in sorted(standing.ranks.items(), key=lambda x: (x[1], fold(str(x[0]))))
        ]
        settings = [
            msg.SettingCame(
                name=c.name,
                value=c.value,
                subjects=[str(s) for s in c.subjects],
                chains=[[str(x) for x in standing.chain(s)] for s in c.subjects],
                overruled=[str(s) for s in c.overruled],
                undecided=c.undecided,
            )
            for c in resolve_all(self.prepared, a)
        ]
        return msg.StandingAnswer(
            revision=self.revision,
            account=self.account_detail(name),
            standing=counted,
            settings=settings,
        )
