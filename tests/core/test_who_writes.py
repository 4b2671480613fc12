"""Who a mail is from and by whose clock it tells the time: chosen by route and message, verified, asked everywhere."""

import pytest

from angelon.core.messages.channels import compiled_part
from angelon.core.messages.known_fields import SHOP_FIELDS
from angelon.core.messages.older import with_older
from angelon.core.planning.inputs import ActiveRoute, Event, Facts
from angelon.core.planning.plan import decide, work_out
from angelon.core.planning.preflight import Preflight
from angelon.core.planning.readiness import problems_of
from angelon.core.planning.senders import sender_of
from angelon.core.problems import Invalid
from angelon.core.specs import Gateway, Message, Store
from angelon.core.specs.store import ShopSender
from tests import made


def gateways():
    """A mail server, an SMS line and a chat provider."""
    others = [Gateway.model_validate(made.provider(kind, 1)) for kind in ("sms", "chat")]
    return {gateway.key: gateway for gateway in (made.gateway(), *others)}


WORKSHOP = ShopSender(key="workshop", address="workshop@kites.example", name="The workshop", verified=True)


def setup(store=None, **changes):
    return made.setup(store=store or made.store(), **changes)


def decided(route, setup_, payload=None):
    event = Event("ev-1", "order.created", "placed", "shop", payload or made.order(), made.NOON)
    reading, variables = work_out(setup_.sources["shop"], setup_, event.payload)
    return decide(event, reading, variables, ActiveRoute(route, made.LONG_AGO), setup_, Facts(), made.NOON)


def with_senders(*senders, **changes):
    return made.store().model_copy(update={"senders": list(senders), **changes})


@pytest.mark.parametrize(
    ("route", "envelope", "address"),
    [
        ({}, {}, "orders@kites.example"),
        ({}, {"sender": "workshop"}, "workshop@kites.example"),
        ({"sender": "workshop"}, {}, "workshop@kites.example"),
        ({"sender": "office"}, {"sender": "workshop"}, "office@kites.example"),
    ],
)
def test_the_route_s_sender_goes_before_the_message_s_and_that_before_the_gateway_s(route, envelope, address):
    office = ShopSender(key="office", address="office@kites.example", verified=True)
    store = with_senders(WORKSHOP, office)
    message = made.message(envelope=envelope)
    assert sender_of(made.route(**route), message, made.gateway(), store).address == address


def test_nothing_is_planned_or_switched_on_in_the_name_of_who_is_not_verified():
    unknown = WORKSHOP.model_copy(update={"verified": False})
    route, there = made.route(sender="workshop"), setup(with_senders(unknown))
    decision = decided(route, there)
    assert (decision.outcome, decision.sends[0].reason) == (
        "held",
        "workshop@kites.example is not verified yet, so nothing is sent from it.",
    )
    stops = [problem for problem in problems_of(route, there) if problem.severity == "error"]
    assert ["workshop@kites.example is not verified" in problem.what for problem in stops] == [True]
    assert decided(made.route(), there).outcome == "send", "the gateway's own sender is verified"


def test_a_sender_that_was_deleted_is_told_everywhere():
    route, there = made.route(sender="gone"), setup()
    assert decided(route, there).sends[0].reason == "There is no sender “gone” any more."
    assert any("no sender “gone”" in problem.what for problem in problems_of(route, there))
    message = made.message(envelope={"sender": "gone"})
    found = Preflight(message, there).run()
    assert [p.where for p in found if "no sender" in p.what] == ["envelope.sender"]


# ---- the shop in texts


def sms(text):
    return Message.model_validate(made.message().model_dump(mode="json") | {"sms": {"en": {"text": text}}})


def test_texts_name_the_shop_and_how_to_reach_it():
    store = made.store().model_copy(update={"support_phone": "+353209150000", "hours": "9 to 5"})
    part = compiled_part(
        sms("{{ shop.name }}, {{ shop.phone }}, {{ shop.hours }}, {{ shop.email }}"), "sms", "en", store
    )
    assert part.names == frozenset()
    assert part.render({}).text == "Kites, +353209150000, 9 to 5, hello@example.com"


def test_what_the_shop_does_not_say_holds_the_send_and_a_misspelt_field_is_named():
    there = setup(messages={"received": sms("Call {{ shop.phone }}")}, gateways=gateways())
    decision = decided(made.route(channel="sms", gateway="sms"), there)
    assert decision.sends[0].reason == "The shop has no phone yet, and the text shows it."
    with pytest.raises(Invalid, match="shop has no field “phnoe”") as error:
        compiled_part(sms("Call {{ shop.phnoe }}"), "sms", "en", made.store())
    assert error.value.problems[0].hint == "Did you mean shop.phone?"
    assert set(SHOP_FIELDS) == {"name", "email", "phone", "website", "hours"}


# ---- by whose clock


@pytest.mark.parametrize(
    ("times", "country", "phone", "shown"),
    [
        ("shop", "JP", "", "09:41"),
        ("reader", "JP", "", "18:41"),
        ("reader", "DE", "", "10:41"),
        ("reader", "US", "+1 808 555 0100", "23:41"),
    ],
)
def test_times_are_by_the_shop_s_clock_or_by_the_reader_s(times, country, phone, shown):
    buyer = {"name": "Jo", "email": "jo@example.org", "phone": phone, "country": country}
    reading = made.source().model_dump(mode="json")["reading"] | {"phone": "$.buyer.phone"}
    text = sms('{{ order.placed_at | date("HH:mm") }}')
    store = made.store().model_copy(update={"reader_times": times})
    sources = {"shop": made.source(reading=reading)}
    there = setup(store, messages={"received": text}, sources=sources, gateways=gateways())
    payload = made.order(buyer=buyer, language="en")
    route = made.route(channel="sms", gateway="sms", to=[{"kind": "address", "who": "+4930231250"}, "customer"])
    at = decided(route, there, payload).sends
    part = compiled_part(text, "sms", "en", store)
    assert part.render(at[1].values).text == shown
    assert part.render(at[0].values).text == "09:41", "who is not the customer reads the shop's time"


def test_a_moment_that_the_mapping_put_into_a_zone_of_its_own_stays_there():
    recipes = made.source().model_dump(mode="json")["recipes"]
    recipes["expected_on"] = {"path": "$.placed_at", "steps": [{"timezone": {"zone": "Asia/Tokyo"}}]}
    text = sms('{{ expected_on | date("HH:mm") }}')
    store = made.store().model_copy(update={"reader_times": "reader"})
    there = setup(
        store, messages={"received": text}, sources={"shop": made.source(recipes=recipes)}, gateways=gateways()
    )
    send = decided(made.route(channel="sms", gateway="sms", to=["customer"]), there, made.order()).sends[0]
    assert compiled_part(text, "sms", "en", store).render(send.values).text == "18:41"


# ---- to whom


def test_a_variable_s_steps_make_an_address_of_what_the_payload_holds():
    recipes = made.source().model_dump(mode="json")["recipes"]
    recipes["customer_name"] = {"path": "$.note", "steps": [{"extract": {"pattern": "mail: (\\S+)"}}]}
    there = setup(sources={"shop": made.source(recipes=recipes)})
    route = made.route(to=[{"kind": "variable", "who": "customer_name"}])
    send = decided(route, there, made.order(note="mail: packer@kites.example please")).sends[0]
    assert (send.recipient, send.to) == ("packer@kites.example", "variable:customer_name")
    none = decided(route, there, made.order()).sends[0]
    assert none.state.value == "held"
    gone = decided(made.route(to=[{"kind": "variable", "who": "gone"}]), setup()).sends[0]
    assert gone.reason.startswith("There is no variable “gone”")


def test_an_account_out_of_a_note_is_written_to_where_the_provider_takes_accounts():
    reading = made.source().model_dump(mode="json")["reading"]
    reading |= {"account": {"path": "$.note", "steps": [{"parse_json": {"path": "$.chat.id"}}]}}
    chat = gateways()["chat"].model_dump(mode="json") | {"addresses": "account", "review": None}
    ways = gateways() | {"chat": Gateway.model_validate(chat)}
    texts = made.message().model_dump(mode="json") | {"chat": {"en": {"body": "Hello {{ customer_name }}"}}}
    there = setup(
        sources={"shop": made.source(reading=reading)},
        gateways=ways,
        messages={"received": Message.model_validate(texts)},
    )
    route = made.route(channel="chat", gateway="chat", to=["customer"])
    send = decided(route, there, made.order(note='{"chat": {"id": "U-77-abc"}}')).sends[0]
    assert (send.recipient, send.state.value) == ("U-77-abc", "scheduled"), send.reason
    spaced = decided(route, there, made.order(note='{"chat": {"id": "two words"}}')).sends[0]
    assert "An account id is one word" in spaced.reason


# ---- translations


def written(**emails):
    texts = {locale: {"subject": subject, "blocks": []} for locale, subject in emails.items()}
    return Message.model_validate({"key": "m", "name": "M", "locale": "en", "email": texts})


def test_a_translation_is_older_until_it_is_changed_or_the_main_text_is_what_it_was():
    first = with_older(None, written(en="Hello", de="Hallo", fr="Bonjour"))
    assert first.older == {}
    second = with_older(first, written(en="Hello there", de="Hallo", fr="Bonjour"))
    assert sorted(second.older) == ["email.de", "email.fr"]
    third = with_older(second, written(en="Hello there", de="Hallo da", fr="Bonjour"))
    assert sorted(third.older) == ["email.fr"]
    fourth = with_older(third, written(en="Hello you", de="Hallo da", fr="Bonjour"))
    assert sorted(fourth.older) == ["email.de", "email.fr"]
    back = with_older(fourth, written(en="Hello", de="Hallo da", fr="Bonjour"))
    assert sorted(back.older) == ["email.de"]
    told = [p.what for p in Preflight(back, setup()).run() if "older" in p.what]
    assert told == ["The email in de is older than the one in en, which was changed since."]


# ---- rules for some


def test_rules_count_for_the_channel_or_the_routes_that_they_are_for():
    more = [
        {"channel": "sms", "forbidden": ["hurry"]},
        {"routes": ["market"], "forbidden": ["our shop"], "link_hosts": ["market.example"]},
    ]
    store = Store.model_validate(made.store().model_dump(mode="json") | {"more_rules": more})
    message = sms("Hurry to our shop https://kites.example/a")

    def broken(routes):
        return [p.what for p in Preflight(message, setup(store), routes=routes).run() if p.where.startswith("sms")]

    assert broken([]) == ["It says “hurry”, which the rules for SMS forbid."]
    told = broken(["market"])
    assert "It says “our shop”, which the rules for market forbid." in told
    mails = made.message(email={"en": {"subject": "Hurry", "blocks": [{"kind": "text", "text": "now"}]}})
    assert not [p for p in Preflight(mails, setup(store)).run() if "forbid" in p.what]


# ---- sums


@pytest.mark.parametrize(
    ("amounts", "told"),
    [
        (
            {"total": "31.00", "ship": "6.50", "tax": "5.80", "off": "0.00"},
            ["Postage: €6.50", "Total: €31.00", "of which tax: €5.80"],
        ),
        ({"total": "30.00", "ship": "6.50", "tax": "4.00", "off": "-5.00"}, ["Discount: −€5.00", "Tax: €4.00"]),
    ],
)
def test_the_lines_block_shows_what_makes_the_total(amounts, told):
    reading = made.source().model_dump(mode="json")["reading"]
    reading |= {"postage": "$.ship", "tax": "$.tax", "discount": "$.off"}
    blocks = [{"kind": "lines"}]
    message = made.message(email={"en": {"subject": "Thanks", "blocks": blocks}})
    there = setup(sources={"shop": made.source(reading=reading)}, messages={"received": message})
    lines = [{"sku": "A", "title": "Sled", "quantity": 1, "price": "24.50"}]
    payload = made.order(lines=lines, language="en", **amounts)
    send = decided(made.route(), there, payload).sends[0]
    rendered = compiled_part(message, "email", "en", there.store).render(send.values)
    for line in told:
        assert line in rendered.text
        assert line.partition(": ")[2] in rendered.html


@pytest.mark.parametrize(
    ("placed", "outcome"),
    [
        ("2026-11-03T11:59:59+00:00", "no"),
        ("2026-11-03T12:00:30+00:00", "send"),
        ("2026-11-03T12:00:00+00:00", "send"),
        ("2026-11-03T11:59:00+00:00", "no"),
        ("2026-11-03", "send"),
        ("2026-11-02", "no"),
    ],
)
def test_an_order_of_the_very_second_minute_or_day_counts_as_placed_since(placed, outcome):
    """Switched on at 12:00:30.4; stores tell when an order was placed to the second, the minute or the day."""
    since = made.NOON.replace(second=30, microsecond=400_000)
    route = made.route(when=["order.updated"], only_new_orders=True)
    there, payload = setup(), made.order(placed_at=placed)
    event = Event("ev-1", "order.updated", "changed", "shop", payload, since.replace(minute=5))
    reading, variables = work_out(there.sources["shop"], there, payload)
    decision = decide(event, reading, variables, ActiveRoute(route, since), there, Facts(), since.replace(minute=5))
    assert decision.outcome == outcome, decision.reason


def test_a_mail_of_text_alone_has_one_part_and_the_letterhead_s_footer():
    from angelon.core.messages.email import RenderedEmail
    from angelon.core.messages.mime import Envelope, build

    mail = {"subject": "Order {{ order.number }}", "text": "Thank you for {{ total }}.", "text_only": True}
    message = made.message(email={"en": mail})
    store = made.store().model_copy(
        update={"letterhead": made.store().letterhead.model_copy(update={"footer": "By the sea"})}
    )
    send = decided(made.route(), setup(store, messages={"received": message}), made.order(language="en")).sends[0]
    rendered = compiled_part(message, "email", "en", store).render(send.values)
    assert rendered.html == ""
    assert rendered.text == "Thank you for €135.50.\n\n--\nBy the sea\n"
    assert isinstance(rendered, RenderedEmail)
    data = build(rendered, Envelope("a@kites.example", "A", "b@example.org", "", "1@kites.example", made.NOON))
    assert b"multipart" not in data
    assert b"Content-Type: text/plain; charset=utf-8" in data
    empty = made.message(email={"en": mail | {"text": " "}})
    assert "The mail has no text." in [problem.what for problem in Preflight(empty, setup()).run()]
