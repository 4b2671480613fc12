"""No text goes out with a hole: a missing value holds the send, unless its author said that it may be missing."""

import json

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from angelon.core.messages.channels import compiled_part
from angelon.core.planning.inputs import ALWAYS, ActiveRoute, Event, Facts
from angelon.core.planning.plan import decide, work_out
from angelon.core.planning.preflight import Preflight, Sample
from angelon.core.problems import Invalid
from angelon.core.specs import Bundle, Message, Route
from angelon.core.states import State
from angelon.core.templates import CantRender, compile_template
from tests import made

TEXTS = {
    "{{ order.total }}": "order.total",
    "{{ order.total | upper }}": "order.total",
    "{{ gift_note }}": "gift_note",
    "{{ gift_note | replace('a', 'b') | lower }}": "gift_note",
    "Track it: [{{ gift_note }}]": "gift_note",
    "{{ order.number ~ ' of ' ~ order.placed_at }}": "order.placed_at",
    "{% for line in order.lines %}{{ line.sku }}{% endfor %}": "line.sku",
    "{{ gift_note if gift_note else order.discount }}": "gift_note",
}
FINE = [
    "{{ order.total | default('—') }}",
    "{% if order.total %}{{ order.total }}{% endif %}",
    "{{ gift_note | default }}",
    "{{ order.number }}",
    "{% if gift_note %}With it: {{ gift_note }}{% else %}No note{% endif %}",
    "{{ order.number ~ (gift_note | default) }}",
]


def message(text, **more):
    return Message.model_validate(
        {
            "key": "received",
            "name": "Received",
            "email": {"en": {"subject": "Order", "blocks": [{"kind": "text", "text": text}]}},
            "sms": {"en": {"text": text}},
        }
        | more
    )


def payload(**changes):
    bare = made.order(total=None, placed_at=None, lines=[{"title": "Heron", "quantity": 1}])
    return bare | changes


def decision(spec, channel="email", **changes):
    setup = made.setup(messages={"received": spec})
    source = setup.sources["shop"]
    reading, variables = work_out(source, setup, payload(**changes))
    event = Event("ev-1", "order.created", "placed", "shop", payload(**changes), made.NOON)
    route = Route.model_validate(made.route().model_dump() | {"channel": channel})
    return decide(event, reading, variables, ActiveRoute(route, ALWAYS), setup, Facts(), made.NOON)


@pytest.mark.parametrize(("text", "name"), TEXTS.items())
def test_a_value_that_is_missing_and_shown_bare_holds_the_send_and_is_named(text, name):
    (send,) = decision(message(text)).sends
    assert send.state is State.HELD
    assert send.reason.startswith(f"{name} has no value for this order")
    for channel in ("email", "sms"):
        with pytest.raises(CantRender, match="has no value for this order"):
            compiled_part(message(text), channel, "en", made.store()).render(
                send.values or {"order": {}, "gift_note": None}
            )


@pytest.mark.parametrize("text", FINE)
def test_where_the_author_said_that_it_may_be_missing_it_goes_out(text):
    (send,) = decision(message(text)).sends
    assert send.state is State.SCHEDULED, send.reason


def test_a_link_never_ends_in_nothing():
    button = message(
        "x",
        email={
            "en": {
                "subject": "x",
                "blocks": [{"kind": "button", "text": "Track", "url": "https://post.example/?no={{ gift_note }}"}],
            }
        },
    )
    (send,) = decision(button).sends
    assert (send.state, send.reason.split(" ")[0]) == (State.HELD, "gift_note")


def test_a_block_may_be_left_out_when_it_is_empty():
    spec = message(
        "x",
        email={
            "en": {
                "subject": "x",
                "blocks": [
                    {"kind": "text", "text": "Note: {{ gift_note }}", "only_if": "gift_note"},
                    {"kind": "text", "text": "Thanks"},
                ],
            }
        },
    )
    (send,) = decision(spec).sends
    assert send.state is State.SCHEDULED
    mail = compiled_part(spec, "email", "en", made.store()).render(send.values)
    assert "Note:" not in mail.html + mail.text


def test_a_preview_shows_what_is_missing_by_its_name():
    compiled = compiled_part(message("For {{ order.total }}"), "sms", "en", made.store())
    assert compiled.render({"order": {"total": None}}, "mark").text == "For ⟨order.total⟩"


def test_amounts_put_side_by_side_are_shown_as_amounts():
    from decimal import Decimal

    from angelon.core.values import Money

    assert (
        compile_template("{{ 'for ' ~ total }}")
        .render({"total": Money(Decimal("1234.5"), "EUR")}, "de")
        .replace("\u00a0", " ")
        == "for 1.234,50 €"
    )


@settings(max_examples=150, deadline=None)
@given(
    st.sampled_from([*TEXTS, *FINE]),
    st.sampled_from(["email", "sms"]),
    st.fixed_dictionaries(
        {
            "total": st.none() | st.just("5"),
            "placed_at": st.none() | st.just("2026-11-01"),
            "reference": st.none() | st.just("B-1"),
        }
    ),
)
def test_no_text_that_goes_out_has_an_unfilled_place(text, channel, changes):
    made_decision = decision(message(text), "email", **changes)
    for send in made_decision.sends:
        if send.state is State.SCHEDULED:
            sent_for_order = compiled_part(message(text), channel, "en", made.store()).render(send.values).text
            assert "None" not in sent_for_order
            assert "⟨" not in sent_for_order
            assert "[]" not in sent_for_order


# ---- names that no order has


@pytest.mark.parametrize(
    ("field", "meant"), [("nmae", "name"), ("totl", "total"), ("placed", "placed_at"), ("adress", "address")]
)
def test_a_misspelt_field_of_the_order_is_named_with_the_one_that_is_meant(field, meant):
    text = f"Hello {{{{ order.{field} }}}}"
    for channel in ("email", "sms"):
        with pytest.raises(Invalid, match=f"An order has no field “{field}”.*Did you mean order.{meant}"):
            compiled_part(message(text), channel, "en", made.store())
    chat = message("x", chat={"en": {"body": text, "samples": {f"order.{field}": "x"}}})
    with pytest.raises(Invalid, match="no field"):
        compiled_part(chat, "chat", "en", made.store())
    found = Preflight(message(text), made.setup()).run()
    assert any(problem.severity == "error" and f"“{field}”" in problem.what for problem in found)


def test_preflight_says_with_which_real_order_the_send_would_be_held():
    setup = made.setup()
    reading, variables = work_out(setup.sources["shop"], setup, payload())
    found = Preflight(
        message("For {{ order.total }}"),
        setup,
        samples=[Sample("order BK-7", setup.sources["shop"], reading, variables)],
    ).run()
    assert any("With order BK-7 the send would be held: order.total has no value" in problem.what for problem in found)


@pytest.mark.parametrize(
    ("text", "label"),
    [
        ("{{ order.nmae }}", "no field “nmae”"),
        ("{{ custmer_name }}", "no variable of that name"),
        ("{{ total", "never closed|can't|unexpected|closed"),
    ],
)
def test_a_bundle_whose_texts_can_t_be_made_changes_nothing(bench, text, label):
    from angelon.db.setup import bundles

    bundle = Bundle(
        store=made.store(),
        sources=[made.source()],
        variables=made.VARIABLES,
        gateways=[made.gateway()],
        messages=[message(text)],
        routes=[made.route()],
        live=["received"],
    )
    before = bench.rows("SELECT spec FROM revision ORDER BY id")
    with pytest.raises(Invalid, match=label), bench.database.writing() as session:
        bundles.apply(session, bundle, bench.clock.now())
    assert bench.rows("SELECT spec FROM revision ORDER BY id") == before


def test_a_hole_that_only_shows_when_it_is_due_holds_the_send_then(bench, mailbox):
    """The recipe has lost its value meanwhile: the text is worked out again, and held instead of sent."""
    bench.deliver(made.body())
    bench.plan()
    with bench.database.connection() as connection:
        ((values,),) = bench.rows('SELECT "values" FROM send')
        spoilt = json.loads(values)
        spoilt["total"] = None
        connection.exec_driver_sql('UPDATE send SET "values" = ?', (json.dumps(spoilt),))
    bench.dispatcher().run_batch()
    ((state, reason),) = bench.rows("SELECT state, reason FROM send")
    assert (state, reason.startswith("total has no value for this order")) == ("held", True)
    assert bench.box.count_mails() == 0
