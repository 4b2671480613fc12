"""What a customer has bought: as it stands, as it stood, and what is not counted."""

import datetime as dt
from decimal import Decimal

import pytest

from angelon.core.planning import purchases
from angelon.core.planning.context import PlanningContext
from angelon.core.planning.inputs import Contact, Event, Facts
from angelon.core.planning.plan import work_out
from angelon.core.planning.purchases import Purchase
from angelon.core.planning.subjects import subject, subjects
from angelon.core.specs import Variable
from angelon.core.usage import renamed
from angelon.core.values import Money
from tests import made

DAY = dt.timedelta(days=1)


def reading(**changes):
    return work_out(made.source(), made.setup(), made.order(**changes))[0]


def euros(amount):
    return Money(Decimal(amount), "EUR")


def test_a_history_grows_by_what_is_new_and_says_how_it_stood_at_any_moment():
    first = purchases.noted(None, reading(), made.NOON)
    again = purchases.noted(first, reading(state="shipped"), made.NOON + DAY)
    more = purchases.noted(again, reading(total="99.00", lines=[]), made.NOON + 2 * DAY)
    assert again == first
    assert len(more) == 2
    items = (("HER-180", "Heron"), ("LIN-050", "line"))
    assert purchases.purchase(more, made.NOON - DAY) is None
    assert purchases.purchase(more, made.NOON + DAY) == Purchase(euros("135.50"), items)
    assert purchases.purchase(more) == Purchase(euros("99.00"), ())
    assert purchases.purchase(None) is None


def test_a_total_that_changes_with_every_event_does_not_grow_an_order_for_ever():
    history = []
    for number in range(200):
        history = purchases.noted(history, reading(total=f"{number}.00"), made.NOON + number * DAY)
    assert len(history) == purchases.MOST_NOTED
    assert purchases.purchase(history).total == euros("199.00")


def test_an_order_that_says_no_total_still_has_its_items():
    history = purchases.noted([], reading(total=None), made.NOON)
    assert purchases.purchase(history).total is None
    assert len(purchases.purchase(history).items) == 2


@pytest.mark.parametrize(
    ("currency", "wanted"), [("EUR", euros("30.30")), ("SEK", Money(Decimal("7"), "SEK")), ("", None), ("CHF", None)]
)
def test_sums_are_of_one_currency(currency, wanted):
    bought = {
        1: Purchase(euros("10.10")),
        2: Purchase(euros("20.20")),
        3: Purchase(Money(Decimal("7"), "SEK")),
        4: Purchase(),
    }
    assert purchases.spent(bought, currency) == wanted


def test_a_sole_currency_need_not_be_named():
    assert purchases.spent({1: Purchase(euros("2")), 2: Purchase(euros("3"))}, "") == euros("5")


def test_each_product_is_there_once_by_its_sku_else_by_its_name():
    bought = {
        1: Purchase(None, (("A", "Kite"), ("", "Line"))),
        2: Purchase(None, (("A", "Kite, blue"), ("", "Line"), ("", "Kite"))),
    }
    assert purchases.products(bought) == [{"sku": "A", "name": "Kite"}, {"sku": "", "name": "Line"}]


def context(kept, **changes):
    source = made.source(
        recipes=made.source().model_dump(mode="json")["recipes"] | {"loyalty": {"path": "$.loyalty", "default": "none"}}
    )
    variables = {v.name: v for v in made.VARIABLES} | {"loyalty": Variable(name="loyalty", keep=True)}
    setup = made.setup(sources={"shop": source}, variables=variables)
    read, worked = work_out(source, setup, made.order(**changes))
    facts = Facts(contact=Contact(kept=kept, country="NO", purchases={1: Purchase(euros("5"))}))
    event = Event("ev", "order.created", "placed", "shop", {}, made.NOON)
    return PlanningContext(event, read, worked, setup, facts, made.NOON)


def test_what_is_kept_is_what_the_event_says_else_what_was_known_and_never_the_default():
    assert subject("kept.loyalty", context({"loyalty": "gold"}, loyalty="silver")).value == "silver"
    assert subject("kept.loyalty", context({"loyalty": "gold"})).value == "gold"
    assert subject("kept.loyalty", context({})).value is None
    assert "not kept" in subject("kept.total", context({})).problem
    assert "no variable" in subject("kept.gone", context({})).problem
    assert ("kept.loyalty", "text") in subjects(context({}).setup)


def test_the_event_s_country_counts_before_the_one_that_was_known():
    assert subject("contact.country", context({})).value == "DE"
    assert subject("contact.country", context({}, buyer={"name": "Jo"})).value == "NO"
    assert subject("contact.spent", context({})).value == euros("5")


def test_a_renamed_variable_is_renamed_where_its_kept_value_is_asked_for():
    plain = {"only_if": {"of": [{"kind": "compare", "of": "kept.loyalty"}, {"kind": "compare", "of": "order.loyalty"}]}}
    assert [one["of"] for one in renamed(plain, "loyalty", "level")["only_if"]["of"]] == ["kept.level", "order.loyalty"]
