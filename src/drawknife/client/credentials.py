"""What accounts sign in with."""

from __future__ import annotations

from urllib.parse import quote

from drawknife import messages as msg

from .connection import Connection, segment


class CredentialCalls(Connection):
    """The part of :class:`drawknife.client.Client` that is about passwords and keys."""

    def credentials(self, name: str) -> msg.Credentials:
        """What an account signs in with. ``GET /accounts/{name}/credentials``."""
        return self._get(msg.Credentials, f"/accounts/{segment(name)}/credentials")

    def set_password(
        self, name: str, password: str | None = None, length: int = 20, alphabet: str = ""
    ) -> msg.PasswordSet:
        """Set a password; without one, one is generated and told.

        ``PUT /accounts/{name}/password``.
        """
        body = {"password": password, "length": length, "alphabet": alphabet}
        return self._read(
            msg.PasswordSet, self._request("PUT", f"/accounts/{segment(name)}/password", json=body)
        )

    def password_is_right(self, name: str, password: str) -> bool:
        """Is this the account's password? ``POST /accounts/{name}/password/check``."""
        body = {"password": password}
        path = f"/accounts/{segment(name)}/password/check"
        return self._read(msg.PasswordRight, self._request("POST", path, json=body)).right

    def clear_password(self, name: str) -> None:
        """Take the password away. ``DELETE /accounts/{name}/password``."""
        self._request("DELETE", f"/accounts/{segment(name)}/password")

    def add_key(self, name: str, key: str) -> msg.Credentials:
        """Attach a public key, given as one line. ``POST /accounts/{name}/keys``."""
        return self._read(
            msg.Credentials,
            self._request("POST", f"/accounts/{segment(name)}/keys", json={"key": key}),
        )

    def remove_key(self, name: str, fingerprint: str) -> msg.Credentials:
        """Take a public key away. ``DELETE /accounts/{name}/keys/{fingerprint}``."""
        path = f"/accounts/{segment(name)}/keys/{quote(fingerprint, safe='/')}"
        return self._read(msg.Credentials, self._request("DELETE", path))
