"""The route that the whole API is made of."""

from __future__ import annotations

import inspect
import json
from collections import Counter
from collections.abc import Callable, Coroutine, Iterator, Mapping, Sequence
from dataclasses import replace
from enum import Enum
from functools import cache, wraps
from typing import Any, cast, get_args, get_origin

from fastapi import APIRouter, Request, Response
from fastapi.dependencies.models import Dependant
from fastapi.exceptions import RequestValidationError
from fastapi.routing import APIRoute
from pydantic import TypeAdapter
from starlette.concurrency import run_in_threadpool
from starlette.responses import StreamingResponse
from starlette.routing import BaseRoute, Match
from starlette.types import Receive, Scope, Send

from bathotype.core.errors import Invalid
from bathotype.service.database import Reads
from bathotype.service.routes.conditions import Conditional
from bathotype.service.routes.paging import MEDIA, Paged, Paging, item_of, lines_of_items
from bathotype.wire.common import Problem, Revised

API = "/api/v1"
JSON = "application/json"
#: The name of the way to show a token, in the API's document.
TOKEN_SCHEME = "HTTPBearer"

#: For every route: what it may answer besides success.
PROBLEMS: dict[int | str, dict[str, Any]] = {
    code: {"model": Problem, "content": {"application/problem+json": {}}, "description": text}
    for code, text in (
        (401, "Not signed in"),
        (403, "Role or token do not allow it"),
        (404, "Not found"),
        (409, "Refused by a rule or state"),
        (422, "Not valid"),
    )
}

_CHANGED = {
    "description": "Changed by somebody else meanwhile",
    "content": {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}},
}


class Given:
    """A parameter that the service gives a route: a dependency that `StrictRoute` finds by itself."""

    #: Whether it is who calls; it is found first.
    is_caller = False

    def __init__(self, find: Callable[[Request], Any]) -> None:
        self.find = find

    def __call__(self) -> None:
        """FastAPI looks at the parameters, for the API's document, and never calls it."""


Handler = Callable[[Request], Coroutine[Any, Any, Response]]
#: Of one route: by the parameters that a request gives.
_MOST_HANDLERS = 32


class StrictRoute(APIRoute):
    """A route that refuses query parameters it does not have: a misspelt filter must not be ignored.

    What the service gives it, its caller first of all, is found in the thread that answers; FastAPI, which would take a
    thread for each, sees only what the request says, and of that only what is there: a parameter that is left out has the
    function's own default.  The model that it returns becomes JSON once, in that thread.
    """

    def get_route_handler(self) -> Handler:
        full = self.dependant
        given = {d.name: d.call for d in full.dependencies if isinstance(d.call, Given) and d.name is not None}
        callers = [one for one in given.values() if one.is_caller]
        if callers:
            self.openapi_extra = {**(self.openapi_extra or {}), "security": [{TOKEN_SCHEME: []}]}
        if _dependency_name(full, Paged):
            files = {media.partition(";")[0]: {"schema": {"type": "string"}} for media in MEDIA.values()}
            self.openapi_extra = {**(self.openapi_extra or {}), "responses": {"200": {"content": files}}}
        if _dependency_name(full, Conditional):
            self.openapi_extra = {**(self.openapi_extra or {}), "responses": {"412": _CHANGED}}
        #: Whether the route reads on the connection on which its caller is looked up.
        self.reads_on = READS in given.values()
        asked = replace(
            full,
            call=_answering(self, given, full.request_param_name),
            dependencies=[d for d in full.dependencies if not isinstance(d.call, Given)],
            request_param_name=full.request_param_name or "request_",
        )
        build = super().get_route_handler

        def handler(names: frozenset[str]) -> Handler:
            self.dependant = asked if self.body_field else _narrowed(asked, names)
            try:
                return build()
            finally:
                self.dependant = full  # for the API's document

        known = query_names(full)
        headers = set(_header_names(asked))
        handlers: dict[frozenset[str], Handler] = {}

        async def strict(request: Request) -> Response:
            names = request.query_params.keys()
            if unknown := sorted(names - known.keys()):
                raise Invalid(
                    f"There is no parameter {unknown[0]!r} here.",
                    advice=f"The parameters are {', '.join(sorted(known))}." if known else "It takes no parameters.",
                )
            if len(request.query_params.multi_items()) > len(names):
                _need_once(request, known)
            named = frozenset(names) | {name for name in headers if name in request.headers}
            handle = handlers.get(named)
            if handle is None:
                handle = handler(named)
                if len(handlers) < _MOST_HANDLERS:
                    handlers[named] = handle
            reads = request.state.reads = Reads(request.app.state.service.database)
            try:
                return await handle(request)
            except RequestValidationError:
                for caller in callers:  # a stranger learns that it must sign in, and nothing else
                    await run_in_threadpool(caller.find, request)
                raise
            finally:
                reads.release()

        return strict


def _need_once(request: Request, several: Mapping[str, bool]) -> None:
    """Raises `Invalid` for a parameter that is given twice where one value counts: the other would be ignored."""
    counts = Counter(name for name, _ in request.query_params.multi_items())
    for name, count in counts.items():
        if count > 1 and not several[name]:
            raise Invalid(f"The parameter {name!r} is given {count} times.", advice="Give it once.")


def _answering(route: StrictRoute, given: dict[str, Given], request_name: str | None) -> Callable[..., Any]:
    """A route's endpoint as FastAPI calls it: with nothing but what the request says.

    The answer is not checked again: its models were checked when they were made.
    """
    endpoint, status = route.endpoint, route.status_code or 200
    headers_apart = route.dependant.response_param_name is not None  # FastAPI puts them on the answer
    paged = _dependency_name(route.dependant, Paged)

    @cache
    def adapter() -> TypeAdapter[Any]:
        return TypeAdapter(route.response_model)  # when it is first needed: it takes a while

    def completed(values: dict[str, Any]) -> dict[str, Any]:
        request = request_of(values)
        found = {name: one.find(request) for name, one in given.items()}
        return {name: value for name, value in values.items() if name != "request_" or request_name} | found

    def request_of(values: dict[str, Any]) -> Request:
        request: Request = values[request_name or "request_"]
        return request

    if inspect.iscoroutinefunction(endpoint):

        @wraps(endpoint)
        async def answer_later(**values: Any) -> Any:
            return await endpoint(**await run_in_threadpool(completed, values))

        return answer_later

    @wraps(endpoint)
    def answer(**values: Any) -> Any:
        if paged and values[paged].form != "json":
            return whole_list(values)
        made = endpoint(**completed(values))
        if route.response_model is None or isinstance(made, Response) or headers_apart:
            return made
        headers = _tag(made.revision) if isinstance(made, Revised) else None
        return Response(adapter().dump_json(made), status, headers, media_type=JSON)

    def whole_list(values: dict[str, Any]) -> Response:
        """All pages, one after another: each asked as if it were a request, so that a right that is lost ends it."""
        assert paged is not None
        request, paging = request_of(values), cast(Paging, values[paged])

        def page(cursor: str | None) -> dict[str, Any]:
            made = endpoint(**completed({**values, paged: paging.next_page(cursor)}))
            read: dict[str, Any] = json.loads(
                bytes(made.body) if isinstance(made, Response) else adapter().dump_json(made)
            )
            return read

        first = page(paging.cursor)  # what is wrong with the request is said before anything is sent

        def pages() -> Iterator[list[dict[str, Any]]]:
            seen = first
            while True:
                yield seen["items"]
                if seen["next"] is None:
                    return
                reads = request.state.reads = Reads(request.app.state.service.database)
                try:
                    seen = page(seen["next"])
                finally:
                    reads.release()

        name = request.url.path.rpartition("/")[2]
        return StreamingResponse(
            lines_of_items(paging.form, item_of(route.response_model), pages()),
            media_type=MEDIA[paging.form],
            headers={"Content-Disposition": f'attachment; filename="{name}.{paging.form}"'},
        )

    return answer


def _dependency_name(dependant: Dependant, kind: Any) -> str | None:
    """The name of a route's parameter that is found by a dependency, if it has one."""
    found = get_args(kind)[1].dependency
    return next((one.name for one in dependant.dependencies if one.call is found), None)


READS = Given(lambda request: request.state.reads)


def sent(body: bytes, *, revision: str = "") -> Response:
    """An answer that is JSON already."""
    return Response(body, headers=_tag(revision) if revision else None, media_type=JSON)


def _tag(revision: str) -> dict[str, str]:
    """The header that names a revision of what is answered (RFC 9110, section 8.8.3)."""
    return {"ETag": f'"{revision}"'}


def query_names(dependant: Dependant) -> dict[str, bool]:
    """The query parameters of a route and of everything that it depends on, and whether each may be given several times."""
    names = {one.alias: _is_list(one.field_info.annotation) for one in dependant.query_params}
    for inner in dependant.dependencies:
        names |= query_names(inner)
    return names


def _is_list(annotation: Any) -> bool:
    return any(get_origin(one) is list for one in (annotation, *get_args(annotation)))


def _header_names(dependant: Dependant) -> Iterator[str]:
    yield from (parameter.alias for parameter in dependant.header_params)
    for inner in dependant.dependencies:
        yield from _header_names(inner)


def _narrowed(dependant: Dependant, names: frozenset[str]) -> Dependant:
    """A route's parameters but for those that need not be given and are not: to look for each takes FastAPI as long as a
    short answer of the database."""

    def kept(fields: list[Any]) -> list[Any]:
        return [field for field in fields if field.field_info.is_required() or field.alias in names]

    return replace(
        dependant,
        query_params=kept(dependant.query_params),
        header_params=kept(dependant.header_params),
        dependencies=[_narrowed(inner, names) for inner in dependant.dependencies],
    )


class ByWords(BaseRoute):
    """Finds a route of the API among those with the method and the first word of what is asked, and its last word or a
    parameter there, instead of asking a hundred.

    It comes before the routes themselves, which say what is missing where it finds none.
    """

    def __init__(self, routes: Sequence[BaseRoute]) -> None:
        ours = [one for one in routes if isinstance(one, StrictRoute)]
        last_words = {_word(one.path, -1) for one in ours} - {_PARAMETER}
        #: By method and first word, and the last word or, for any other, nothing.
        self._routes: dict[tuple[str, str, str], list[StrictRoute]] = {}
        for one in ours:
            last = _word(one.path, -1)
            for word in ("", *last_words) if last == _PARAMETER else (last,):
                for method in one.methods or ():
                    self._routes.setdefault((method, _word(one.path, 0), word), []).append(one)

    def matches(self, scope: Scope) -> tuple[Match, Scope]:
        if scope["type"] == "http":
            path = scope["path"].removeprefix(scope.get("root_path", ""))
            method, first, last = scope["method"], _word(path, 0), _word(path, -1)
            otherwise = self._routes.get((method, first, ""), [])
            for one in self._routes.get((method, first, last), otherwise):
                match, found = one.matches(scope)
                if match == Match.FULL:
                    return match, {**found, "route": one}
        return Match.NONE, {}

    async def handle(self, scope: Scope, receive: Receive, send: Send) -> None:
        await scope["route"].handle(scope, receive, send)


_PARAMETER = "{}"


def _word(path: str, at: int) -> str:
    """A word of a path of the API."""
    if not path.startswith(API):
        return ""
    word = path[len(API) + 1 :].split("/")[at]
    return _PARAMETER if word.startswith("{") else word


def api_router(prefix: str = "", *, tags: list[str | Enum] | None = None) -> APIRouter:
    """A router of the API; its document lists what each route may answer besides success."""
    return APIRouter(prefix=API + prefix, tags=tags, responses=PROBLEMS, route_class=StrictRoute)
