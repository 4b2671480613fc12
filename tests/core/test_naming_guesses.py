"""Where a delivery says what happened, and what that means: guessed from real shapes."""

import pytest

from angelon.core.naming_guesses import guess_name, meaning_of


@pytest.mark.parametrize(
    ("headers", "payload", "place", "name", "means"),
    [
        ({"x-harbour-topic": "orders/create"}, {}, "the header x-harbour-topic", "orders/create", "order.created"),
        ({"x-h-event-id": "12"}, {"type": "sale.new"}, "$.type", "sale.new", "order.created"),
        ({}, {"data": {"event": "OrderShipped"}}, "$.data.event", "OrderShipped", "parcel.picked_up"),
        ({}, {"NOTICE": "NEW_SALE", "kind": "x y"}, "$.NOTICE", "NEW_SALE", "order.created"),
        ({}, {"event": "hint.agreed"}, "$.event", "hint.agreed", ""),
    ],
)
def test_the_place_of_a_name_is_guessed(headers, payload, place, name, means):
    guess = guess_name(headers, payload)
    assert (guess.place, guess.name, guess.means) == (place, name, means)


@pytest.mark.parametrize(
    ("headers", "payload"),
    [
        ({}, {"id": 1, "total": "3"}),
        ({"content-type": "application/json", "x-event-id": "9"}, []),
        ({}, {"type": {"nested": "x"}, "event": "a" * 90}),
        ({}, None),
    ],
)
def test_where_nothing_looks_like_a_name_nothing_is_guessed(headers, payload):
    assert guess_name(headers, payload) is None


@pytest.mark.parametrize(
    ("name", "means"),
    [
        ("order.paid", "order.paid"),
        ("ORDER_CANCELED", "order.cancelled"),
        ("order_refunded", "payment.refunded"),
        ("refundIssued", "payment.refunded"),
    ],
)
def test_words_of_a_name_tell_what_it_means(name, means):
    assert meaning_of(name) == means


@pytest.mark.parametrize(
    ("payload", "path", "means"),
    [
        ({"meta": {"kind": "order.placed", "uid": "e1"}, "purchase": {"kind": "gift"}}, "$.meta.kind", "order.created"),
        ({"header": {"topic": "order shipped"}, "order": {"id": 1}}, "$.header.topic", "parcel.picked_up"),
        ({"order": {"kind": "gift", "type": "retail"}}, None, ""),
    ],
)
def test_a_name_is_found_where_the_delivery_tells_of_itself_and_not_in_what_it_is_about(payload, path, means):
    guess = guess_name({}, payload)
    assert (guess.locator.path if guess else None) == path
    assert (guess.means if guess else "") == means
