"""Preflight: every kind of thing that would go wrong is found, told where it is, and blocks or doesn't."""

import pytest

from angelon.core.colours import contrast, ink_on
from angelon.core.messages.attachments import LibraryFile
from angelon.core.planning.plan import work_out
from angelon.core.planning.preflight import Preflight, Sample
from angelon.core.specs import Gateway, Message, Store
from angelon.core.specs.store import Letterhead, Rules
from tests import made

SPEAKING = [("email", "mailroom", ["shop"])]


def message(**parts):
    return Message.model_validate({"key": "m", "name": "M", **parts})


def email(blocks=(), subject="Hi", **more):
    return {"email": {"en": {"subject": subject, "blocks": list(blocks) or [{"kind": "text", "text": "x"}], **more}}}


def checked(spec, speaking=SPEAKING, samples=(), files=(), reviews=None, **setup):
    found = Preflight(message(**spec), made.setup(**setup), speaking, samples, files, reviews or {}).run()
    sent_for_order = {}
    for problem in found:
        sent_for_order.setdefault((problem.where, problem.severity), problem.what)
    return sent_for_order


def sample(**changes):
    the_setup = made.setup()
    reading, variables = work_out(the_setup.sources["shop"], the_setup, made.order(**changes))
    return Sample(str(changes.get("reference", "BK-7")), the_setup.sources["shop"], reading, variables)


def verified():
    gateway = made.gateway()
    return {"mailroom": gateway.model_copy(update={"sender": gateway.sender.model_copy(update={"verified": True})})}


def test_a_sound_message_has_nothing_in_the_way():
    assert checked(email(), gateways=verified()) == {}


@pytest.mark.parametrize(
    ("spec", "where", "severity", "label"),
    [
        ({}, "email", "error", "no text yet"),
        (email(subject=" "), "email.en.subject", "error", "subject is empty"),
        ({"email": {"en": {"subject": "x"}}}, "email.en.blocks", "error", "no text"),
        (
            email([{"kind": "text", "text": "Hi {{ custmer_name }}"}]),
            "email.en.blocks.0.text",
            "error",
            "no variable “custmer_name”",
        ),
        (
            email([{"kind": "text", "text": "x", "only_if": "nothing_like_it"}]),
            "email.en.blocks.0.only_if",
            "error",
            "nothing_like_it",
        ),
        (email([{"kind": "text", "text": "Hi {{ a"}]), "email.en.blocks.0", "error", "never closed"),
        (email([{"kind": "button", "text": "Go", "url": ""}]), "email.en.blocks.0.url", "error", "leads nowhere"),
        (
            email([{"kind": "image", "src": "https://x.example/a.png"}]),
            "email.en.blocks.0.alt",
            "warning",
            "can’t see it",
        ),
        (
            email([{"kind": "image", "src": "library:p/a.png", "alt": "x"}]),
            "email.en.blocks.0.src",
            "error",
            "no file “p/a.png”",
        ),
        (
            email([{"kind": "columns", "left": [{"kind": "image", "src": "https://x.example/a.png"}], "right": []}]),
            "email.en.blocks.0.left.0.alt",
            "warning",
            "can’t see it",
        ),
        (email(subject="x" * 90), "email.en.subject", "warning", "90 characters"),
        (
            email([{"kind": "text", "text": "see [it](https://shop/x)"}]),
            "email.en.blocks.0.text",
            "error",
            "no full address",
        ),
        ({"sms": {"en": {"text": " "}}}, "sms.en.text", "error", "no text"),
    ],
)
def test_what_is_wrong_is_told_where_it_is(spec, where, severity, label):
    found = checked(spec, gateways=verified())
    assert label in found.get((where, severity), ""), found


def test_a_mail_that_is_cut_by_mail_programs_is_told():
    found = checked(email([{"kind": "text", "text": "word " * 3900}] * 6), gateways=verified())
    assert "KB; some mail programs cut" in found["email.en.blocks", "warning"]


def test_links_may_go_to_allowed_hosts_only():
    store = made.store().model_copy(update={"rules": Rules(link_hosts=["kites.example"])})
    blocks = [
        {"kind": "button", "text": "Go", "url": "https://shop.kites.example/x"},
        {"kind": "button", "text": "Away", "url": "https://evil-kites.example/x"},
    ]
    found = checked(email(blocks), store=store, gateways=verified())
    assert list(found) == [("email.en.blocks.1.url", "error")]
    assert "goes to evil-kites.example" in found["email.en.blocks.1.url", "error"]


def test_a_link_made_of_a_value_is_looked_at_with_real_orders():
    variables = {v.name: v for v in made.VARIABLES}
    blocks = [{"kind": "button", "text": "Go", "url": "https://shop.example/{{ customer_name }}"}]
    assert checked(email(blocks), samples=[sample()], variables=variables, gateways=verified()) == {}


def test_forbidden_phrases_are_found_in_any_case_and_in_values():
    store = made.store().model_copy(update={"rules": Rules(forbidden=["Act Now"])})
    assert (
        "It says “Act Now”"
        in checked(email([{"kind": "text", "text": "act NOW"}]), store=store)["email.en.blocks", "error"]
    )
    found = checked(
        {"sms": {"en": {"text": "Dear {{ customer_name }}"}}},
        samples=[sample(buyer={"name": "act now", "email": "a@example.com"})],
        store=store,
    )
    assert "It says “Act Now”" in found["sms.en.text", "error"]


def test_an_sms_over_the_cap_is_told_with_the_order_that_makes_it_so():
    text = Gateway.model_validate({"key": "text", "name": "Text", "kind": "sms", "max_segments": 1})
    long = sample(reference="BK-9", buyer={"name": "n" * 150, "email": "a@example.com"})
    found = checked(
        {"sms": {"en": {"text": "Dear {{ customer_name }}, hello there"}}},
        [("sms", "text", ["shop"])],
        [sample(), long],
        gateways={"text": text},
    )
    assert "takes 2 segments with BK-9, and the gateway allows 1" in found["sms.en.text", "error"]


def test_missing_languages_say_what_their_readers_get():
    store = Store.model_validate({**made.store().model_dump(), "locales": ["de", "fr"]})
    found = Preflight(message(**email()), made.setup(store=store, gateways=verified()), SPEAKING).run()
    assert [(p.where, p.hint) for p in found] == [
        ("email.de", "Those readers get en instead."),
        ("email.fr", "Those readers get en instead."),
    ]


def test_a_source_without_a_recipe_is_told_with_the_way_to_map_it():
    source = made.source(recipes={})
    found = checked(email([{"kind": "text", "text": "{{ total }}"}]), sources={"shop": source}, gateways=verified())
    assert "Shop has no mapping for “total”" in found["sources.shop.total", "warning"]


def test_a_pale_accent_and_an_unverified_sender_are_warned_about():
    store = made.store().model_copy(update={"letterhead": Letterhead(accent="#e8d9a0")})
    gateway = made.gateway()
    unknown = gateway.model_copy(update={"sender": gateway.sender.model_copy(update={"verified": False})})
    found = checked(email(), store=store, gateways={"mailroom": unknown})
    assert "contrast of 1." in found["letterhead.accent", "warning"]
    assert "not verified" in found["gateways.mailroom", "warning"]


def test_attachments_over_a_gateway_s_limits_are_told():
    spec = email() | {"attachments": [{"kind": "library", "shelf": "care", "required": True}]}
    assert "is empty" in checked(spec, gateways=verified())["email.*.attachments.0", "error"]
    exe = LibraryFile(1, "care", "a.pdf", "application/x-msdownload", 10)
    assert (
        "application/x-msdownload by its content"
        in checked(spec, files=[exe], gateways=verified())["email.*.attachments.0", "error"]
    )


def chat_gateway(**more):
    call = {"url": "https://p.example/x", "body": '{"text": {{ text | json }}}'}
    return Gateway.model_validate(
        {"key": "chat", "name": "Chat", "kind": "chat", "call": call, "review": {"submit": call, "look": call}, **more}
    )


def test_a_chat_text_has_to_be_approved_where_a_provider_reviews():
    spec = {"chat": {"en": {"body": "Hello {{ customer_name }}, hi", "samples": {"customer_name": "Jo"}}}}
    speaking = [("chat", "chat", ["shop"])]
    assert "not approved" in checked(spec, speaking, gateways={"chat": chat_gateway()})["chat.en.review", "error"]
    from angelon.core.messages.chat import compile_chat

    mark = compile_chat(message(**spec).chat["en"], made.store(), "en").numbered.digest("order")
    assert (
        "in review"
        in checked(spec, speaking, gateways={"chat": chat_gateway()}, reviews={("en", mark): "submitted"})[
            "chat.en.review", "error"
        ]
    )
    assert (
        "rejected"
        in checked(spec, speaking, gateways={"chat": chat_gateway()}, reviews={("en", mark): "rejected"})[
            "chat.en.review", "error"
        ]
    )
    assert checked(spec, speaking, gateways={"chat": chat_gateway()}, reviews={("en", mark): "approved"}) == {}
    assert checked(spec, speaking, gateways={"chat": chat_gateway(review=None)}) == {}


def test_nobody_speaking_is_a_warning_and_a_route_without_its_part_an_error():
    assert "nobody will get it" in checked(email(), speaking=[])["routes", "warning"]
    assert (
        "has no SMS part"
        in checked(email(), speaking=[*SPEAKING, ("sms", "x", [])], gateways=verified())["sms", "error"]
    )


def test_contrast_is_wcag_s():
    assert contrast("#000000", "#ffffff") == pytest.approx(21)
    assert contrast("#777777", "#ffffff") == pytest.approx(4.48, abs=0.01)
    assert contrast("#0E5A55", "#0E5A55") == 1
    assert (ink_on("#0E5A55"), ink_on("#f2d45c")) == ("#ffffff", "#1d232c")


def test_every_error_of_a_text_is_told_at_once():
    blocks = [{"kind": "text", "text": "{{ order.tottal }} {{ nosuch }}"}, {"kind": "text", "text": "{# open"}]
    found = Preflight(message(**email(blocks)), made.setup(gateways=verified()), SPEAKING).run()
    told = " ".join(problem.what for problem in found)
    for part in ("no field “tottal”", "“nosuch”", "comment {# is opened"):
        assert part in told, told


def test_a_message_that_no_route_sends_is_not_asked_of_each_source():
    sources = {f"s{n}": made.source(key=f"s{n}", recipes={}) for n in range(8)}
    blocks = [{"kind": "text", "text": "{{ customer_name }} {{ total }}"}]
    lines = [
        what for what in checked(email(blocks), (), sources=sources, gateways=verified()).values() if "mapping" in what
    ]
    assert lines == ["No source has a mapping for “customer_name”, “total”: sends of this message would be held."]
