"""The API against its own description: no 5xx, no answer that is not described."""

import schemathesis
from hypothesis import HealthCheck, Phase, given, settings
from schemathesis.checks import CHECKS

from ..conftest import DEMO, serving

CHECKED = [
    "not_a_server_error",
    "status_code_conformance",
    "content_type_conformance",
    "response_schema_conformance",
]


def test_no_answer_is_undescribed(address, tmp_path):
    with serving(address, tmp_path, "--load", DEMO) as service:
        headers = {"Authorization": f"Bearer {service.token}"}
        with service.http() as http:
            schema = schemathesis.openapi.from_dict(
                http.get("/openapi.json").raise_for_status().json()
            )
        schema.config.base_url = service.url
        checks = CHECKS.get_by_names(CHECKED)
        told = []
        for found in schema.get_all_operations():
            operation = found.ok()
            told.append(operation.label)

            @settings(
                max_examples=10,
                deadline=None,
                phases=[Phase.explicit, Phase.generate],
                database=None,
                suppress_health_check=list(HealthCheck),
            )
            @given(case=operation.as_strategy())
            def ask(case):
                case.call_and_validate(headers=headers, checks=checks, timeout=60)

            ask()
        assert len(told) >= 20, told
