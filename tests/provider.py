"""A small OpenID Connect provider for the tests, on authlib's server side."""

from __future__ import annotations

import threading
import time
from typing import Any

from authlib.integrations.flask_oauth2 import AuthorizationServer
from authlib.oauth2.rfc6749 import ClientMixin
from authlib.oauth2.rfc6749.grants import AuthorizationCodeGrant
from authlib.oauth2.rfc7636 import CodeChallenge
from authlib.oidc.core import UserInfo
from authlib.oidc.core.grants import OpenIDCode
from flask import Flask, jsonify, request
from joserfc.jwk import RSAKey
from werkzeug.serving import make_server

CLIENT, SECRET = "bathotype", "a secret of the tests"


class _Client(ClientMixin):
    def get_client_id(self) -> str:
        return CLIENT

    def get_default_redirect_uri(self) -> None:
        return None

    def get_allowed_scope(self, scope: str) -> str:
        return scope

    def check_redirect_uri(self, redirect_uri: str) -> bool:
        return redirect_uri.endswith("/api/v1/session/oidc/callback")

    def check_client_secret(self, client_secret: str) -> bool:
        return client_secret == SECRET

    def check_endpoint_auth_method(self, method: str, endpoint: str) -> bool:
        return method == "client_secret_basic"

    def check_response_type(self, response_type: str) -> bool:
        return response_type == "code"

    def check_grant_type(self, grant_type: str) -> bool:
        return grant_type == "authorization_code"


class _Code:
    def __init__(self, **facts: Any) -> None:
        self.__dict__.update(facts)

    def get_redirect_uri(self) -> str:
        return self.redirect_uri

    def get_scope(self) -> str:
        return self.scope

    def get_nonce(self) -> str | None:
        return self.nonce

    def get_auth_time(self) -> int:
        return int(time.time())

    def get_acr(self) -> None:
        return None

    def get_amr(self) -> None:
        return None


class Provider:
    """Logs in whoever ``user`` names, without asking; ``spoil`` changes the id token's claims."""

    def __init__(self) -> None:
        self.user, self.spoil = "senna", {}
        self._codes: dict[str, _Code] = {}
        self._key = RSAKey.generate_key(2048, {"kid": "one", "use": "sig", "alg": "RS256"})
        self._server = make_server("127.0.0.1", 0, self._app(), threaded=True)
        self.issuer = f"http://127.0.0.1:{self._server.server_port}"
        threading.Thread(target=self._server.serve_forever, daemon=True).start()

    def stop(self) -> None:
        self._server.shutdown()

    def _app(self) -> Flask:
        provider, app = self, Flask("provider")
        app.config["OAUTH2_SCOPES_SUPPORTED"] = ["openid", "profile"]
        server = AuthorizationServer(
            app, query_client=lambda name: _Client() if name == CLIENT else None, save_token=lambda token, req: None
        )

        class Grant(AuthorizationCodeGrant):
            TOKEN_ENDPOINT_AUTH_METHODS = ["client_secret_basic"]

            def save_authorization_code(self, code: str, request: Any) -> None:
                data = request.payload.data
                provider._codes[code] = _Code(
                    user=provider.user, redirect_uri=request.payload.redirect_uri, scope=request.payload.scope,
                    nonce=data.get("nonce"), code_challenge=data.get("code_challenge"),
                    code_challenge_method=data.get("code_challenge_method"),
                )  # fmt: skip

            def query_authorization_code(self, code: str, client: Any) -> _Code | None:
                return provider._codes.get(code)

            def delete_authorization_code(self, code: Any) -> None:
                provider._codes = {k: v for k, v in provider._codes.items() if v is not code}

            def authenticate_user(self, code: Any) -> str:
                return code.user

        class Tokens(OpenIDCode):
            def exists_nonce(self, nonce: str, request: Any) -> bool:
                return False

            def get_jwt_config(self, *_: Any) -> dict[str, Any]:
                return {"key": provider._key.as_dict(private=True), "alg": "RS256", "iss": provider.issuer, "exp": 300}

            def generate_user_info(self, user: str, scope: str) -> UserInfo:
                return UserInfo(**{"sub": f"id-of-{user}", "preferred_username": user, **provider.spoil})

        server.register_grant(Grant, [CodeChallenge(required=True), Tokens()])

        @app.get("/.well-known/openid-configuration")
        def describe() -> Any:
            return jsonify(
                issuer=provider.issuer, authorization_endpoint=f"{provider.issuer}/authorize",
                token_endpoint=f"{provider.issuer}/token", jwks_uri=f"{provider.issuer}/keys",
            )  # fmt: skip

        @app.get("/authorize")
        def authorize() -> Any:
            grant = server.get_consent_grant(end_user=provider.user)
            return server.create_authorization_response(grant=grant, grant_user=provider.user)

        @app.post("/token")
        def token() -> Any:
            return server.create_token_response(request)

        @app.get("/keys")
        def keys() -> Any:
            return jsonify(keys=[provider._key.as_dict(private=False)])

        return app
