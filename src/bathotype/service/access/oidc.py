"""Log-in by an OpenID Connect provider (OpenID Connect Core 1.0): authorization code with PKCE (RFC 7636).

The request, the challenge and the checks of the id token are authlib's; its signature is checked by joserfc.
"""

from __future__ import annotations

import secrets
import threading
from datetime import timedelta
from typing import Any

import httpx
from authlib.common.errors import AuthlibBaseError
from authlib.oauth2.rfc6749.parameters import prepare_grant_uri
from authlib.oauth2.rfc7636 import create_s256_code_challenge
from authlib.oidc.core import CodeIDToken
from joserfc import jwt
from joserfc.errors import JoseError
from joserfc.jwk import KeySet
from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from bathotype.core.errors import NotSignedIn, Unavailable
from bathotype.service.access.principals import digest_of
from bathotype.service.access.signin import open_invitation
from bathotype.service.records import Invitation, OidcAttempt, User
from bathotype.service.records.base import CHANGE, utcnow

_ATTEMPT_LASTS = timedelta(minutes=10)
_CLOCKS_DIFFER = 60
_ALGORITHMS = ["RS256", "ES256", "EdDSA"]
_PATIENCE = 10.0


class OidcLogIn:
    """One provider.  Who it names must be a user here: by an earlier log-in, or by an invitation that was shown first."""

    def __init__(self, issuer: str, client_id: str, client_secret: str) -> None:
        self.issuer, self._id, self._secret = issuer.rstrip("/"), client_id, client_secret
        self._lock = threading.Lock()
        self._known: dict[str, Any] | None = None

    def _provider(self) -> dict[str, Any]:
        """Its addresses, by discovery."""
        with self._lock:
            if self._known is None:
                try:
                    answer = httpx.get(f"{self.issuer}/.well-known/openid-configuration", timeout=_PATIENCE)
                    found = dict(answer.raise_for_status().json())
                    named = str(found["issuer"]).rstrip("/")
                except (httpx.HTTPError, ValueError, KeyError) as error:
                    raise Unavailable(
                        f"The sign-in provider {self.issuer} does not answer.", advice="Sign in with a password."
                    ) from error
                if named != self.issuer:
                    raise Unavailable(f"The provider calls itself {named}, not {self.issuer}.")
                self._known = found
            return self._known

    def begin(self, session: Session, redirect: str, invitation: str = "") -> tuple[str, str]:
        """``(address, state)``: where to send the browser, and what its cookie must hold when it comes back.

        Raises `NotSignedIn` for an invitation that is not valid.
        """
        invited = open_invitation(session, invitation).user_id if invitation else None
        state, nonce, verifier = (secrets.token_urlsafe(32) for _ in range(3))
        session.execute(delete(OidcAttempt).where(OidcAttempt.expires_at < utcnow()))
        session.add(
            OidcAttempt(
                state=digest_of(state),
                nonce=nonce,
                verifier=verifier,
                user_id=invited,
                expires_at=utcnow() + _ATTEMPT_LASTS,
            )
        )
        address: str = prepare_grant_uri(
            self._provider()["authorization_endpoint"],
            client_id=self._id,
            response_type="code",
            redirect_uri=redirect,
            scope="openid profile",
            state=state,
            nonce=nonce,
            code_challenge=create_s256_code_challenge(verifier),
            code_challenge_method="S256",
        )
        return address, state

    def take(self, session: Session, *, state: str, cookie: str) -> OidcAttempt:
        """The log-in that is under way in this browser; it is none any more.  Raises `NotSignedIn`."""
        attempt = session.get(OidcAttempt, digest_of(state), with_for_update=CHANGE)
        held = secrets.compare_digest(state.encode(), cookie.encode())
        if attempt is None or attempt.expires_at < utcnow() or not held:
            raise NotSignedIn("This log-in was not begun here, or too long ago.", advice="Begin again.")
        session.delete(attempt)
        return attempt

    def finish(self, session: Session, redirect: str, *, attempt: OidcAttempt, code: str) -> User:
        """The user whom the provider names.  Raises `NotSignedIn` where anything does not fit."""
        claims = self._claims(redirect, code, attempt)
        subject = f"{self.issuer} {claims['sub']}"
        user = session.scalar(select(User).where(User.subject == subject))
        if attempt.user_id is None:
            if user is None:
                # What the provider calls somebody is not enough: names there are given by others than here.
                raise NotSignedIn(
                    "No user here has the identity that the provider gave.",
                    advice="Open the invitation that a steward gave you, and choose your organisation there.",
                )
            return user
        invited = session.get_one(User, attempt.user_id, with_for_update=CHANGE)
        if user is not None and user.id != invited.id:
            raise NotSignedIn(
                f"You sign in here as {user.name} already; the invitation is for {invited.name}.",
                advice="Ask the steward to add you by the name that you have.",
            )
        if invited.password is not None or invited.subject not in (None, subject):
            raise NotSignedIn("The invitation is no longer valid.", advice="Sign in as you did before.")
        invited.subject = subject
        # Whoever made the invitation could still choose a password with it.
        session.execute(delete(Invitation).where(Invitation.user_id == invited.id))
        return invited

    def _claims(self, redirect: str, code: str, attempt: OidcAttempt) -> dict[str, Any]:
        """The checked claims of the id token that the code is exchanged for."""
        provider = self._provider()
        form = {
            "grant_type": "authorization_code",
            "code": code,
            "redirect_uri": redirect,
            "code_verifier": attempt.verifier,
        }
        try:
            answer = httpx.post(provider["token_endpoint"], data=form, auth=(self._id, self._secret), timeout=_PATIENCE)
            keys = httpx.get(provider["jwks_uri"], timeout=_PATIENCE).raise_for_status().json()
            given = answer.raise_for_status().json()
            token = jwt.decode(given["id_token"], KeySet.import_key_set(keys), algorithms=_ALGORITHMS)
            claims = CodeIDToken(
                token.claims,
                token.header,
                {
                    "iss": {"essential": True, "value": provider["issuer"]},
                    "aud": {"essential": True, "value": self._id},
                },
                {"nonce": attempt.nonce, "client_id": self._id, "access_token": given.get("access_token")},
            )
            claims.validate(leeway=_CLOCKS_DIFFER)
        except (httpx.HTTPError, JoseError, AuthlibBaseError, KeyError, TypeError, ValueError) as error:
            raise NotSignedIn("The provider's answer is not valid.", advice="Begin again.") from error
        return dict(claims)
