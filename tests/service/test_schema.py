"""The whole HTTP API against its own OpenAPI document: no server error, no answer that the document does not tell of."""

from __future__ import annotations

import re
from typing import Any

import pytest
from fastapi.routing import APIRoute
from hypothesis import HealthCheck, given, settings

from bathotype.core.checks.check import CheckList
from bathotype.core.firstboot.settings import FirstBoot
from bathotype.core.forms import words_of
from bathotype.core.generalize.profile import Profile
from bathotype.core.lifecycle.rules import LaunchRule
from bathotype.core.lifecycle.target import Target
from bathotype.core.sheets.sheet import SheetPart, WrittenSheet
from bathotype.service.app import create_app
from tests.office import Office

# Streams of events never end, and an outside log-in leads away from here.
LEFT_OUT = "/operations/{operation_id}/events$|/feed$|/session/oidc"
APP = create_app(None)  # type: ignore[arg-type]
ASKED = [
    f"{method} {route.path_format}"
    for route in APP.routes
    if isinstance(route, APIRoute) and route.include_in_schema and not re.search(LEFT_OUT, route.path_format)
    for method in sorted(route.methods)
]


def patterns_in(document: Any) -> set[str]:
    """Every pattern that a text must match, wherever in a JSON document it is said."""
    if isinstance(document, list):
        return set().union(*map(patterns_in, document))
    if not isinstance(document, dict):
        return set()
    own = {document["pattern"]} if isinstance(document.get("pattern"), str) else set()
    return own.union(*map(patterns_in, document.values()))


def test_every_form_that_a_text_must_have_is_said_in_words() -> None:
    formats = (CheckList, FirstBoot, LaunchRule, Profile, Target, SheetPart, WrittenSheet)
    asked = patterns_in([APP.openapi(), *(model.model_json_schema() for model in formats)])
    assert len(asked) > 20
    assert [pattern for pattern in asked if words_of(pattern) is None] == []


@pytest.fixture(scope="module")
def operations() -> dict[str, Any]:
    """The operations that the document tells of, which takes seconds to read."""
    import schemathesis

    document = schemathesis.openapi.from_dict(APP.openapi())
    found = {one.ok().label: one.ok() for one in document.exclude(path_regex=LEFT_OUT).get_all_operations()}
    assert found.keys() == set(ASKED)
    return found


@pytest.mark.parametrize("asked", ASKED)
def test_every_answer_is_in_the_document(asked: str, operations: dict[str, Any], shared_office: Office) -> None:
    from schemathesis.specs.openapi import checks

    operation = operations[asked]
    judges = [checks.status_code_conformance, checks.content_type_conformance, checks.response_schema_conformance]
    headers = {"Authorization": f"Bearer {shared_office.tokens['chart-house']}"}
    http = shared_office.http(None)

    @given(case=operation.as_strategy())
    @settings(max_examples=8, deadline=None, derandomize=True, database=None, suppress_health_check=list(HealthCheck))
    def ask(case: Any) -> None:
        response = http.request(**case.as_transport_kwargs(base_url="http://office", headers=headers))
        assert response.status_code < 500, response.text
        case.validate_response(response, checks=judges)

    ask()
