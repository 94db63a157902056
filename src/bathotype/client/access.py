"""Calls about log-in, tokens, members and keys."""

from __future__ import annotations

from collections.abc import Sequence

from bathotype.client.calls import Calls
from bathotype.core.access.roles import Role, Verb
from bathotype.wire import access as wire


class AccessCalls(Calls):
    """Who may do what."""

    def who_am_i(self) -> wire.WhoAmI:
        """Who is signed in, and what it may."""
        return self._transport.one(wire.WhoAmI, "GET", "/session")

    def tokens(
        self, *, user: str | None = None, valid: bool = False, sort: wire.TokenSort | None = None
    ) -> list[wire.Token]:
        """One's own tokens; for who manages the account all that reach it.  The newest first unless sorted."""
        return list(self._transport.pages(wire.Token, "/tokens", user=user, valid=valid, sort=sort, limit=500))

    def make_token(
        self,
        *,
        name: str,
        robot: str | None = None,
        accounts: list[str] | None = None,
        verbs: Sequence[Verb | str] | None = None,
        sheets: Sequence[str] | None = None,
        days: float = 90,
    ) -> wire.NewToken:
        """A token for yourself, or for a robot of the account; its text is shown once."""
        held = [Verb(verb) for verb in verbs] if verbs is not None else None
        body = wire.TokenRequest(
            name=name,
            robot=robot,
            accounts=accounts,
            verbs=held,
            sheets=None if sheets is None else list(sheets),
            days=days,
        )
        return self._transport.one(wire.NewToken, "POST", "/tokens", json=body.model_dump(mode="json"))

    def revoke_token(self, token: str) -> None:
        """Revoke a token by id, at once."""
        self._transport.call("DELETE", f"/tokens/{token}")

    def members(self) -> list[wire.Member]:
        """Who may act for the account."""
        return list(self._transport.pages(wire.Member, "/members", limit=500))

    def add_member(self, user: str, role: str, *, robot: bool = False) -> wire.Member:
        """Add a person or a robot; a new person's invitation is in the answer."""
        body = wire.MemberRequest(user=user, role=Role(role), robot=robot).model_dump(mode="json")
        return self._transport.one(wire.Member, "POST", "/members", json=body)

    def set_role(self, user: str, role: str) -> wire.Member:
        """Change a member's role."""
        return self._transport.one(wire.Member, "PUT", f"/members/{user}", json={"role": role})

    def remove_member(self, user: str) -> None:
        """End a membership."""
        self._transport.call("DELETE", f"/members/{user}")

    def invite(self, user: str) -> wire.Member:
        """A new invitation for a person that has not used its first one, or does not know the password any more."""
        return self._transport.one(wire.Member, "POST", f"/members/{user}/invitation")

    def change_password(self, old: str, new: str) -> None:
        """Choose another password for yourself; your other sessions end."""
        body = wire.PasswordChange(old=old, new=new).model_dump()
        self._transport.call("PUT", "/session/password", json=body)

    def offered_memberships(self) -> list[wire.OfferedMembership]:
        """Memberships that stewards offer to you."""
        return self._transport.many(wire.OfferedMembership, "/memberships/offered")

    def accept_membership(self, account: str) -> wire.WhoAmI:
        """Accept one."""
        return self._transport.one(wire.WhoAmI, "POST", f"/memberships/{account}/acceptance")

    def leave(self, account: str) -> None:
        """Decline a membership that is offered to you, or give up one that you have."""
        self._transport.call("DELETE", f"/memberships/{account}")

    def keys(self, account: str) -> list[wire.PublicKey]:
        """An account's public signing keys."""
        return self._transport.many(wire.PublicKey, f"/accounts/{account}/keys")

    def rotate_key(self) -> list[wire.PublicKey]:
        """Sign with a new key from now on."""
        return self._transport.listed(wire.PublicKey, "POST", "/keys/rotation")

    def distrust_key(self, key: str) -> list[wire.PublicKey]:
        """Let nothing count that a key has signed."""
        return self._transport.listed(wire.PublicKey, "POST", f"/keys/{key}/distrust")
