"""States, retries, signatures, order histories, ids: the small rules with laws of their own."""

import base64
import datetime as dt
import random

import pytest
from hypothesis import given
from hypothesis import strategies as st
from standardwebhooks.webhooks import Webhook

from angelon.core.ids import make_id
from angelon.core.orders import OrderState, note_status
from angelon.core.retries import RetryPolicy
from angelon.core.signatures import sign, verify, well_made
from angelon.core.specs.source import Signing
from angelon.core.states import DUE, MEANING, MOVES, State, WrongMove, move, sources_of
from tests.made import NOON

# ---- states


def test_every_state_has_its_moves_and_a_meaning():
    assert set(MOVES) == set(MEANING) == set(State)
    assert all(State.SENDING in MOVES[state] for state in DUE)


def test_a_move_that_is_not_in_the_table_is_refused():
    assert move(State.SENDING, State.SENT) is State.SENT
    with pytest.raises(WrongMove, match="sent can't become scheduled"):
        move(State.SENT, State.SCHEDULED)
    assert State.SENT not in sources_of(State.SCHEDULED)


# ---- retries


def test_waits_double_up_to_the_cap():
    policy = RetryPolicy(base_seconds=10, cap_seconds=60, max_tries=10)
    assert [policy.ceiling(n) for n in (1, 2, 3, 4, 9)] == [10, 20, 40, 60, 60]


def test_it_gives_up_after_the_last_try_or_the_last_hour():
    policy = RetryPolicy(base_seconds=10, cap_seconds=3600, max_tries=3, give_up_after_hours=1)
    assert policy.next_try(3, NOON, NOON, lambda: 0.5) is None
    assert policy.next_try(2, NOON, NOON + dt.timedelta(minutes=59, seconds=59), lambda: 0.99) is None
    assert policy.next_try(2, NOON, NOON, lambda: 0.5) == NOON + dt.timedelta(seconds=10)


def test_a_gateway_that_names_a_time_is_taken_at_its_word_within_the_cap():
    policy = RetryPolicy(cap_seconds=100)
    assert policy.next_try(1, NOON, NOON, lambda: 0, asked=30) == NOON + dt.timedelta(seconds=30)
    assert policy.next_try(1, NOON, NOON, lambda: 0, asked=9999) == NOON + dt.timedelta(seconds=100)


@given(st.integers(1, 59), st.integers(0, 2**32))
def test_a_wait_lies_between_a_tenth_of_a_second_and_the_ceiling(tries, seed):
    policy = RetryPolicy()
    at = policy.next_try(tries, NOON, NOON, random.Random(seed).random)
    assert dt.timedelta(seconds=0.1) <= at - NOON <= dt.timedelta(seconds=max(0.1, policy.ceiling(tries)))


def test_the_times_of_a_policy_are_what_the_tries_are_on_average():
    policy = RetryPolicy(base_seconds=10, cap_seconds=40, max_tries=5)
    assert [(one.usual, one.latest) for one in policy.times()] == [(0, 0), (5, 10), (15, 30), (35, 70), (55, 110)]
    assert len(RetryPolicy(max_tries=1).times()) == 1
    assert RetryPolicy(cap_seconds=3600, max_tries=100, give_up_after_hours=2).times()[-1].usual <= 2 * 3600


@given(st.floats(0.1, 3600), st.floats(0.1, 86400), st.integers(1, 100), st.integers(0, 2**32))
def test_half_of_the_draws_are_the_usual_times(base, cap, tries, seed):
    policy = RetryPolicy(base_seconds=base, cap_seconds=cap, max_tries=tries, give_up_after_hours=720)
    at, times = NOON, policy.times()
    for n, one in enumerate(times[1:], start=1):
        at = policy.next_try(n, NOON, at, lambda: 0.5)
        assert (at - NOON).total_seconds() >= one.usual - 0.001
        assert (at - NOON).total_seconds() <= one.usual + 0.1 * n + 0.001


# ---- signatures


@pytest.mark.parametrize("encoding", ["hex", "base64"])
@pytest.mark.parametrize("prefix", ["", "sha256="])
@pytest.mark.parametrize("timestamp", ["", "X-Time"])
def test_what_is_signed_is_accepted_and_any_change_is_not(encoding, prefix, timestamp):
    signing = Signing(header="X-Sig", encoding=encoding, prefix=prefix, timestamp_header=timestamp)
    headers = {k.lower(): v for k, v in sign(signing, "a-secret-key", b'{"a":1}', "d1", NOON).items()}
    assert verify(signing, ["a-secret-key"], headers, b'{"a":1}', NOON) is None
    assert verify(signing, ["new-secret-key", "a-secret-key"], headers, b'{"a":1}', NOON) is None
    assert "does not fit" in verify(signing, ["a-secret-key"], headers, b'{"a":2}', NOON).what
    assert "does not fit" in verify(signing, ["another-key"], headers, b'{"a":1}', NOON).what
    assert "missing" in verify(signing, ["a-secret-key"], {}, b'{"a":1}', NOON).what
    assert verify(signing, ["a-secret-key"], headers | {"x-sig": prefix + "zz!"}, b'{"a":1}', NOON) is not None
    assert "no signing secret" in verify(signing, [], headers, b"", NOON).what
    if timestamp:
        assert (
            "stale: its time is 600 s old"
            in verify(signing, ["a-secret-key"], headers, b'{"a":1}', NOON + dt.timedelta(seconds=600)).what
        )
        assert (
            "in the future"
            in verify(signing, ["a-secret-key"], headers, b'{"a":1}', NOON - dt.timedelta(seconds=600)).what
        )
        assert (
            "seconds since 1970"
            in verify(signing, ["a-secret-key"], headers | {"x-time": "soon"}, b'{"a":1}', NOON).what
        )


def test_a_known_hmac():
    """The second test case of RFC 4231, section 4.3."""
    signing = Signing(header="h")
    digest = "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843"
    assert sign(signing, "Jefe", b"what do ya want for nothing?", "", NOON) == {"h": digest}


def test_standard_webhooks_of_its_own_library_are_accepted():
    secret = "whsec_" + base64.b64encode(b"x" * 24).decode()
    now = dt.datetime.now(dt.UTC)
    signature = Webhook(secret).sign("msg_1", now, '{"a":1}')
    headers = {
        "webhook-id": "msg_1",
        "webhook-timestamp": str(int(now.timestamp())),
        "webhook-signature": f"v1,AAAA {signature} v2,x",
    }
    signing = Signing(scheme="standard-webhooks")
    assert verify(signing, [secret], headers, b'{"a":1}', now) is None
    assert verify(signing, [secret], headers, b'{"a":2}', now) is not None
    assert "webhook-id is missing" in verify(signing, [secret], {}, b"", now).what
    assert "stale" in verify(signing, [secret], headers, b'{"a":1}', now + dt.timedelta(hours=1)).what
    Webhook(secret).verify('{"a":1}', sign(signing, secret, b'{"a":1}', "msg_2", now))
    assert well_made(signing, "not base64!")
    assert well_made(signing, secret) is None


# ---- orders

sightings = st.lists(
    st.tuples(st.integers(0, 20), st.sampled_from(["paid", "packed", "shipped"])),
    max_size=8,
    unique_by=lambda one: one[0],
)
"""At different times: of two at the same one, the order of arrival says which is later."""


@given(sightings, st.randoms())
def test_a_history_is_the_same_for_any_order_of_arrival(seen, rng):
    def sent_for_order(entries):
        state = OrderState()
        for minute, status in entries:
            state = note_status(state, status, NOON + dt.timedelta(minutes=minute)).state
        return state.history

    shuffled = list(seen)
    rng.shuffle(shuffled)
    assert sent_for_order(shuffled) == sent_for_order(sorted(seen))


def test_a_late_delivery_does_not_turn_an_order_backwards():
    state = note_status(OrderState(), "paid", NOON).state
    change = note_status(state, "shipped", NOON + dt.timedelta(hours=2))
    assert (change.was, change.now) == ("paid", "shipped")
    late = note_status(change.state, "packed", NOON + dt.timedelta(hours=1))
    assert not late.changed
    assert late.state.status == "shipped"
    assert [c.status for c in late.state.history] == ["paid", "packed", "shipped"]
    assert not note_status(late.state, "shipped", NOON + dt.timedelta(hours=3)).changed


@pytest.mark.parametrize(
    ("came", "changes", "now"),
    [
        # (status, seconds): what each makes of the order
        ([("pending", 0), ("paid", 0)], [("", "pending"), ("pending", "paid")], "paid"),
        ([("paid", 0), ("delivered", 0)], [("", "paid"), ("paid", "delivered")], "delivered"),
        (
            [("pending", 0), ("paid", 0), ("packed", 0)],
            [("", "pending"), ("pending", "paid"), ("paid", "packed")],
            "packed",
        ),
        ([("pending", 0), ("paid", 0), ("pending", 0)], [("", "pending"), ("pending", "paid"), None], "paid"),
        ([("paid", 1), ("pending", 0)], [("", "paid"), None], "paid"),
        ([("paid", 1), ("pending", 0), ("held", 0)], [("", "paid"), None, None], "paid"),
        ([("paid", 0), ("paid", 5)], [("", "paid"), None], "paid"),
        ([("paid", 0), ("held", 0), ("paid", 1)], [("", "paid"), ("paid", "held"), ("held", "paid")], "paid"),
    ],
    ids=["two", "two by the alphabet", "three", "repeated", "late", "two late", "no change", "there and back"],
)
def test_in_the_same_second_what_arrives_later_is_later(came, changes, now):
    state, found = OrderState(), []
    for status, second in came:
        change = note_status(state, status, NOON + dt.timedelta(seconds=second))
        state = change.state
        found.append((change.was, change.now) if change.changed else None)
    assert found == changes
    assert state.status == now


# ---- ids


def test_ids_sort_by_time_and_fit_a_web_address():
    ids = [make_id("ev", NOON + dt.timedelta(milliseconds=n), 7) for n in range(5)]
    assert ids == sorted(ids)
    assert all(i.startswith("ev-") and len(i) == 22 and i[3:].isalnum() for i in ids)
