"""Calls about git repositories that sheets come from."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from bathotype.client.calls import Calls
from bathotype.client.transport import if_match
from bathotype.core.sheets.steps import Scalar
from bathotype.wire import repositories as wire


class RepositoryCalls(Calls):
    """Repositories whose sheets are the account's."""

    def repositories(self, *, sort: wire.RepositorySort | None = None) -> Iterator[wire.Repository]:
        """The account's repositories, by name."""
        return self._transport.pages(wire.Repository, "/repositories", sort=sort)

    def repository(self, name: str) -> wire.Repository:
        """One of them."""
        return self._transport.one(wire.Repository, "GET", f"/repositories/{name}")

    def connect_repository(
        self,
        name: str,
        address: str,
        *,
        branch: str = "main",
        folder: str = "",
        secret: str | None = None,
        signers: Sequence[str] = (),
        values: Mapping[str, Scalar] | None = None,
        every_minutes: int = 5,
        revision: str | None = None,
    ) -> wire.NewRepository:
        """Let its sheets be the account's; it is read at once.  The key of pushes is in the answer where it is new."""
        body = wire.RepositoryRequest(
            address=address, branch=branch, folder=folder, secret=secret, signers=list(signers),
            values=dict(values or {}), every_minutes=every_minutes,
        )  # fmt: skip
        return self._transport.one(
            wire.NewRepository,
            "PUT",
            f"/repositories/{name}",
            json=body.model_dump(mode="json"),
            headers=if_match(revision),
        )

    def read_repository(self, name: str) -> wire.Repository:
        """Let it be looked at now."""
        return self._transport.one(wire.Repository, "POST", f"/repositories/{name}/readings")

    def renew_push_key(self, name: str) -> wire.NewRepository:
        """Have a new key for pushes; it is in the answer, this once."""
        return self._transport.one(wire.NewRepository, "POST", f"/repositories/{name}/push-keys")

    def drop_repository(self, name: str) -> None:
        """Forget it; its sheets stay."""
        self._transport.call("DELETE", f"/repositories/{name}")
