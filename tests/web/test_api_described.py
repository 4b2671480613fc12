"""The API does what its own description says: requests made from it by schemathesis (`make proof api` makes more)."""

import pytest
import schemathesis
from hypothesis import HealthCheck, Phase, given, seed, settings
from schemathesis.specs.openapi.checks import positive_data_acceptance

from angelon.web.api.operation import limits
from tests import made
from tests.web.test_api import token_for


@pytest.fixture
def described(client, bench):
    bench.deliver(made.body())
    bench.plan()
    limits._left.clear()

    def from_here(environ, start):
        return client.application({**environ, "REMOTE_ADDR": "127.0.0.1"}, start)

    return schemathesis.openapi.from_wsgi("/api/v1/openapi.json", from_here)


def test_every_answer_is_one_that_is_described(described, bench):
    """Right requests and wrong ones: the status, the type and the body of each answer are as the description says.

    What fits the description may still be refused: a text that is no phone number, a route that is not there.
    """
    headers = {"Authorization": f"Bearer {token_for(bench)}", "Accept-Encoding": "identity"}
    asked = []
    for found in described.get_all_operations():
        operation = found.ok()

        @seed(20)
        @settings(
            max_examples=8,
            deadline=None,
            database=None,
            phases=[Phase.generate],
            suppress_health_check=list(HealthCheck),
        )
        @given(case=operation.as_strategy())
        def check(case):
            limits._left.clear()
            case.call_and_validate(headers=headers, excluded_checks=[positive_data_acceptance])

        check()
        asked.append(operation.label)
    assert len(asked) >= 18
