"""Calls over HTTP: problem documents become exceptions, passing failures are tried again where that is safe."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, TypeVar

import httpx
import stamina
from pydantic import BaseModel, ValidationError

from bathotype.core.errors import BathotypeError, Damaged, Invalid, NotSignedIn, Unavailable, class_for_status
from bathotype.core.faults import faults_of

__all__ = ["NotSignedIn", "OperationFailed", "Transport", "error_of"]
Model = TypeVar("Model", bound=BaseModel)
#: How long calls are repeated while the service is away, in seconds.
PATIENCE = 20.0
ACCOUNT_HEADER = "Bathotype-Account"


class OperationFailed(BathotypeError):
    """An operation that was waited for failed or was cancelled."""

    code = "operation-failed"


class Transport:
    """One connection to a service with one token, acting for one account.  Raises `Invalid` for a token that is none."""

    def __init__(
        self,
        url: str,
        token: str,
        *,
        account: str = "",
        timeout: float = 60.0,
        patience: float = PATIENCE,
        http: httpx.Client | None = None,
    ) -> None:
        for what, value in (("token", token), ("account's name", account)):
            if not (value.isascii() and value.isprintable()):
                raise Invalid(f"The {what} holds a character that no {what} has.", advice="Check where it comes from.")
        self.url, self._patience = url.rstrip("/"), patience
        # Loading this system's certificates takes longer than most calls: without encryption there is none to check.
        encrypted = not self.url.startswith("http://")
        self.http = http or httpx.Client(timeout=timeout, trust_env=False, verify=encrypted)
        self.http.base_url = httpx.URL(f"{self.url}/api/v1")
        self.http.headers.update({"Authorization": f"Bearer {token}"} if token else {})
        self.http.headers.update({ACCOUNT_HEADER: account} if account else {})

    def call(self, method: str, path: str, **options: Any) -> httpx.Response:
        """One call.  GETs, and creating calls with an idempotency key, are repeated while the service is away.

        Raises the exception that the service's problem document names.
        """
        options["params"] = {k: v for k, v in (options.get("params") or {}).items() if v is not None}
        repeatable = self._patience > 0 and (
            method in ("GET", "PUT", "DELETE") or "Idempotency-Key" in (options.get("headers") or {})
        )
        for attempt in stamina.retry_context(
            on=Unavailable, attempts=None if repeatable else 1, timeout=self._patience or None
        ):
            with attempt:
                return self._once(method, path, **options)
        raise AssertionError("unreachable")

    def _once(self, method: str, path: str, **options: Any) -> httpx.Response:
        try:
            answer = self.http.request(method, path, **options)
        except httpx.TransportError as error:
            raise Unavailable(
                f"The service at {self.url} does not answer ({type(error).__name__}).",
                advice="Check BATHOTYPE_URL and that the service runs.",
            ) from error
        if answer.status_code >= 400:
            raise error_of(answer)
        return answer

    def data(self, method: str, path: str, **options: Any) -> Any:
        """A call whose answer is JSON."""
        answer = self.call(method, path, **options)
        try:
            return answer.json()
        except ValueError as error:
            raise self._stranger("is no JSON") from error

    def _read(self, model: type[Model], given: object) -> Model:
        try:
            return model.model_validate(given)
        except ValidationError as error:
            raise self._stranger(f"has another form ({faults_of(error, given)})") from error

    def _stranger(self, why: str) -> BathotypeError:
        """What answers is not the service, or one of a release that this client does not know."""
        return BathotypeError(
            f"{self.url} does not answer as Bathotype does: what it sends {why}.",
            advice="Check BATHOTYPE_URL, and that client and service are of the same release.",
        )

    def one(self, model: type[Model], method: str, path: str, **options: Any) -> Model:
        """A call whose answer is one object."""
        return self._read(model, self.data(method, path, **options))

    def many(self, model: type[Model], path: str, **params: Any) -> list[Model]:
        """A call whose answer is a plain list."""
        return self.listed(model, "GET", path, params=params)

    def listed(self, model: type[Model], method: str, path: str, **options: Any) -> list[Model]:
        """The same for any method."""
        items = self.data(method, path, **options)
        if not isinstance(items, list):
            raise self._stranger("is no list")
        return [self._read(model, item) for item in items]

    def pages(self, model: type[Model], path: str, **params: Any) -> Iterator[Model]:
        """All items of a paged list, a page at a time."""
        cursor = None
        while True:
            page = self.data("GET", path, params={**params, "cursor": cursor})
            if not isinstance(page, dict) or not isinstance(page.get("items"), list):
                raise self._stranger("is no page of a list")
            yield from (self._read(model, item) for item in page["items"])
            cursor = page.get("next")
            if cursor is None:
                return

    def file(self, path: str, **params: Any) -> Iterator[bytes]:
        """An answer that may be large, in pieces.  Raises `Unavailable` where it is cut short."""
        given = {k: v for k, v in params.items() if v is not None}
        try:
            with self.http.stream("GET", path, params=given) as answer:
                if answer.status_code >= 400:
                    raise error_of(answer)
                yield from answer.iter_bytes()
        except httpx.TransportError as error:
            raise Unavailable(
                f"The service at {self.url} broke off ({type(error).__name__}).", advice="Ask again: it is not whole."
            ) from error


def if_match(revision: str | None) -> dict[str, str]:
    """The header for a change that is meant for one revision of a thing."""
    return {} if revision is None else {"If-Match": f'"{revision}"'}


def error_of(answer: httpx.Response) -> BathotypeError:
    """The exception for an answer that is an error."""
    try:
        answer.read()
        body = answer.json()
    except ValueError:
        body = None
    if not isinstance(body, dict):
        body = {}
    message = str(body.get("detail") or f"The service answered {answer.status_code}.")
    code = str(body.get("code") or "failed")
    kind = Damaged if code == "pack-damaged" else class_for_status(answer.status_code)
    return kind(message, advice=str(body.get("advice") or ""), code=code, about=str(body.get("about") or ""))
