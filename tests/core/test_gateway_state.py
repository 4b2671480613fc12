"""How a gateway stands, in one word, and what its sends wait for."""

import datetime as dt

import pytest

from angelon.core.breaker import Health
from angelon.core.sending.gateway_state import REFUSES_ALL, gateway_state
from tests import made

NOW = made.NOON
LATER = NOW + dt.timedelta(hours=3)


def down(reason):
    return Health(5, NOW, LATER, reason)


@pytest.mark.parametrize(
    ("given", "shape", "word", "waits"),
    [
        ({}, "sent", "active", ""),
        ({"health": down("no answer")}, "failed", "unreachable", "Mailroom is unreachable."),
        ({"health": down("535 5.7.8 wrong")}, "failed", "login refused", "Mailroom refuses the login."),
        ({"health": down("401 no token")}, "failed", "login refused", "Mailroom refuses the login."),
        ({"health": down("402 pay")}, "failed", "no credit", "Mailroom says that the account has no credit."),
        (
            {"health": down(f"{REFUSES_ALL}: 550 no")},
            "failed",
            "refuses nearly all",
            "Mailroom refuses nearly everybody.",
        ),
        ({"balance": 39_999}, "held", "no credit", "There is no credit left at Mailroom."),
        ({"balance": 40_000}, "sent", "active", ""),
        ({"balance": 0, "health": down("no answer")}, "held", "no credit", "There is no credit left at Mailroom."),
        (
            {"waits_for": "day", "next_at": LATER},
            "held",
            "daily quota used",
            "The daily quota of Mailroom is used up.",
        ),
        ({"waits_for": "day", "next_at": NOW}, "sent", "active", ""),
        ({"waits_for": "rate", "next_at": LATER}, "sent", "active", ""),
    ],
)
def test_a_gateway_stands(given, shape, word, waits):
    state = gateway_state(made.gateway(price="0.04"), now=NOW, **given)
    assert state[:3] == (shape, word, waits)
    assert state.until == (LATER if given.get("health") or "quota" in word else None) or word == "no credit"


def test_one_that_is_paused_says_so_first():
    paused = made.gateway(price="0.04", paused=True)
    assert gateway_state(paused, down("402"), 0).word == "paused"
