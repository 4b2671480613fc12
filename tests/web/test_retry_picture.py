"""The picture of a retry policy: asked while its numbers are typed."""

from angelon.core.retries import RetryPolicy
from angelon.web.gateways.retry_picture import WIDTH, draw, spoken


def asked(client, **typed):
    full = {"base_seconds": "10", "cap_seconds": "60", "max_tries": "4", "give_up_after_hours": "24"} | typed
    return client.get(
        "/gateways/mailroom/retry-times", query_string={f"retry.{name}": value for name, value in full.items()}
    )


def test_what_is_typed_is_drawn(client):
    page = asked(client).text
    assert "Tried up to 4 times: on\naverage 5 s, 15 s, 35 s after" in page
    assert page.count('class="try"') == 4


def test_what_is_no_policy_is_said(client):
    assert "once, without retries" in asked(client, max_tries="1").text
    for typed in ({"max_tries": "many"}, {"base_seconds": ""}, {"give_up_after_hours": "nan"}, {"cap_seconds": "-1"}):
        answer = asked(client, **typed)
        assert answer.status_code == 200
        assert 'class="bad' in answer.text


def test_nothing_is_drawn_beside_the_picture():
    for policy in (RetryPolicy(), RetryPolicy(give_up_after_hours=0.001), RetryPolicy(give_up_after_hours=720)):
        drawn = draw(policy)
        assert all(0 <= x <= WIDTH for x in [*drawn.tries, drawn.end, *(at for at, _ in drawn.marks)])
    assert [spoken(one) for one in (0.5, 5, 59, 90, 120, 3600, 5400, 86400, 200000)] == [
        "0.5 s", "5 s", "59 s", "90 s", "2 min", "1 h", "90 min", "1 day", "2.3 days",
    ]  # fmt: skip
