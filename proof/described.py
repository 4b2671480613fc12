"""A running Angelon, asked whatever its own description of the API (OpenAPI) allows and does not, by schemathesis."""

from __future__ import annotations

import tempfile
from pathlib import Path

from tests.demos import Running


def run(examples: int = 60) -> tuple[dict[str, int], list[str]]:
    """How many requests were made over HTTP, and every answer that is not as described."""
    import schemathesis
    from hypothesis import HealthCheck, Phase, given, settings
    from schemathesis.core.failures import FailureGroup
    from schemathesis.specs.openapi.checks import positive_data_acceptance

    broken: list[str] = []
    made = 0
    with tempfile.TemporaryDirectory() as home:
        demo = Running(Path(home))
        demo.start()
        try:
            from angelon.client.models import SCOPES

            scopes = [argument for scope in SCOPES for argument in ("--scope", scope)]
            token = demo.cli("token", "create", "proof", *scopes).strip().splitlines()[-1].split()[-1]
            schema = schemathesis.openapi.from_url(f"{demo.url}/api/v1/openapi.json")
            headers = {"Authorization": f"Bearer {token}"}
            for found in schema.get_all_operations():
                operation = found.ok()
                if operation.label == "PUT /setup":  # it may well take the demo's set-up away from the others
                    continue

                @settings(
                    max_examples=examples,
                    deadline=None,
                    database=None,
                    phases=[Phase.generate],
                    suppress_health_check=list(HealthCheck),
                )
                @given(case=operation.as_strategy())
                def check(case):  # type: ignore[no-untyped-def]
                    nonlocal made
                    made += 1
                    case.call_and_validate(headers=headers, excluded_checks=[positive_data_acceptance])

                try:
                    check()
                except FailureGroup as error:
                    broken.append(f"{operation.label}: {error.exceptions[0]}")
        finally:
            demo.stop()
    return {"requests": made}, broken
