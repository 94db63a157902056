"""The whole HTTP API against its own OpenAPI document: no server error, no answer that the document does not tell of."""

from __future__ import annotations

from typing import Any

import pytest
import schemathesis
from hypothesis import HealthCheck, given, settings
from schemathesis.specs.openapi.checks import (
    content_type_conformance,
    response_schema_conformance,
    status_code_conformance,
)

from bathotype.service.app import create_app
from tests.support import System

# Streams of events never end, and an outside log-in leads away from here.
LEFT_OUT = "/operations/{operation_id}/events$|/session/oidc"
DOCUMENT = schemathesis.openapi.from_dict(create_app(None).openapi())  # type: ignore[arg-type]
OPERATIONS = [found.ok() for found in DOCUMENT.exclude(path_regex=LEFT_OUT).get_all_operations()]


@pytest.mark.parametrize("operation", OPERATIONS, ids=lambda o: o.label)
def test_every_answer_is_in_the_document(operation: Any, system: System) -> None:
    headers = {"Authorization": f"Bearer {system.secrets['api']['chart-house']}"}

    @given(case=operation.as_strategy())
    @settings(max_examples=12, deadline=None, derandomize=True, database=None, suppress_health_check=list(HealthCheck))
    def ask(case: schemathesis.Case) -> None:
        response = case.call(base_url=system.url, headers=headers, timeout=30)
        assert response.status_code < 500, response.text
        case.validate_response(
            response, checks=[status_code_conformance, content_type_conformance, response_schema_conformance]
        )

    ask()
