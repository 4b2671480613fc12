"""Rendering: a compiled message filled for one order, and a text that was changed a moment ago."""

from __future__ import annotations

import datetime as dt
import itertools
import time

from jinja2 import Environment

from angelon.core.messages.chat import compile_chat
from angelon.core.messages.email import compile_email
from angelon.core.messages.mime import Envelope, build
from angelon.core.messages.sms import compile_sms
from angelon.core.planning.plan import values_for, work_out
from angelon.core.specs.message import ChatText, EmailText, SmsText
from bench.rows import Row, median
from tests import made

BLOCKS = [
    {"kind": "heading", "text": "We start sewing, {{ customer_name }}"},
    {
        "kind": "text",
        "text": (
            "Your order of {{ items }} has reached the workshop.\n\nWe expect it to be with you on **{{ "
            "expected_on }}**."
        ),
    },
    {"kind": "lines"},
    {"kind": "text", "only_if": "gift_note", "text": "We put your card in: “{{ gift_note }}”"},
    {"kind": "button", "text": "See it", "url": "https://shop.example/{{ customer_name }}"},
]


def _times(run, rounds: int) -> list[float]:
    took = []
    for _ in range(rounds):
        began = time.perf_counter()
        run()
        took.append((time.perf_counter() - began) * 1000)
    return took


def rendering(rounds: int = 400) -> list[Row]:
    setup = made.setup()
    reading, variables = work_out(setup.sources["shop"], setup, made.order())
    spec = {"subject": "Thank you, {{ customer_name }}", "blocks": BLOCKS}
    mail = compile_email(EmailText.model_validate(spec), made.store(), "de")
    values, missing = values_for(mail.names, reading, variables)
    assert not missing
    text = compile_sms(
        SmsText(text="Thank you, {{ customer_name }}! {{ total }}, with you on {{ expected_on }}."), made.store(), "de"
    )
    chat = compile_chat(
        ChatText(body="Thank you, {{ customer_name }}! {{ total }}, with you on {{ expected_on }}, we hope."),
        made.store(),
        "de",
    )
    more, _ = values_for(text.names, reading, variables)
    bare = Environment(autoescape=True).from_string(
        mail.html.source.replace("| web_address", "").replace("| urlencode", "")
    )
    plain = {name: str(value) for name, value in values.items() if name != "order"} | {
        "order": {"lines": [{"name": "a", "quantity": 1, "price": "1"}] * 2, "total": "1"}
    }
    rendered, theirs = _times(lambda: mail.render(values), rounds), _times(lambda: bare.render(plain), rounds)
    made_mail = mail.render(values)
    envelope = Envelope("a@example.com", "Kites", "b@example.com", "Jörg", "x@example.com", dt.datetime.now(dt.UTC))
    number = itertools.count()

    def changed() -> None:
        compile_email(
            EmailText.model_validate({**spec, "subject": f"Thank you {next(number)}"}), made.store(), "de"
        ).render(values)

    return [
        Row(
            "a compiled order mail is rendered",
            median(rendered),
            "ms",
            "<= 0.3",
            {"of a bare template of the same page": median(rendered) / median(theirs)},
        ),
        Row("a draft that was just changed is compiled and rendered", median(_times(changed, 60)), "ms", "<= 50", {}),
        Row("an SMS is rendered and counted", median(_times(lambda: text.render(more), rounds)), "ms", "<= 0.3", {}),
        Row("a chat message is rendered", median(_times(lambda: chat.render(more), rounds)), "ms", "<= 0.3", {}),
        Row("a mail becomes bytes", median(_times(lambda: build(made_mail, envelope), rounds)), "ms", "<= 0.5", {}),
    ]
