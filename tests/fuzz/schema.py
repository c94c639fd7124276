"""Requests drawn from the API's schema by schemathesis, with all its checks but one: valid data may be refused, as a session's
rules go beyond what a schema can say."""

import schemathesis
from hypothesis import HealthCheck, given, settings
from schemathesis.specs.openapi.checks import positive_data_acceptance

BASE = "http://127.0.0.1:8420"
REQUEST = ("method", "url", "params", "json", "headers", "content", "data")


def ask_everything(served, examples, derandomize=True):
    """Every operation, each with so many requests. Raises for the first answer that a check does not pass."""
    for operation in schemathesis.openapi.from_dict(served.app.openapi()).get_all_operations():

        @settings(
            max_examples=examples, deadline=None, database=None, derandomize=derandomize,
            suppress_health_check=list(HealthCheck),
        )  # fmt: skip
        @given(case=operation.ok().as_strategy())
        def ask(case):
            sent = case.as_transport_kwargs(base_url=BASE)
            answer = served.request(**{k: v for k, v in sent.items() if k in REQUEST})
            case.validate_response(answer, excluded_checks=[positive_data_acceptance])

        ask()
