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
from tests.office import Office

# Streams of events never end, and an outside log-in leads away from here.
LEFT_OUT = "/operations/{operation_id}/events$|/feed$|/session/oidc"
DOCUMENT = schemathesis.openapi.from_dict(create_app(None).openapi())  # type: ignore[arg-type]
OPERATIONS = [found.ok() for found in DOCUMENT.exclude(path_regex=LEFT_OUT).get_all_operations()]


@pytest.mark.parametrize("operation", OPERATIONS, ids=lambda o: o.label)
def test_every_answer_is_in_the_document(operation: Any, shared_office: Office) -> None:
    headers = {"Authorization": f"Bearer {shared_office.tokens['chart-house']}"}
    http = shared_office.http(None)

    @given(case=operation.as_strategy())
    @settings(max_examples=8, deadline=None, derandomize=True, database=None, suppress_health_check=list(HealthCheck))
    def ask(case: schemathesis.Case) -> None:
        response = http.request(**case.as_transport_kwargs(base_url="http://office", headers=headers))
        assert response.status_code < 500, response.text
        case.validate_response(
            response, checks=[status_code_conformance, content_type_conformance, response_schema_conformance]
        )

    ask()
