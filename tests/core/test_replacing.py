"""Words replaced in the texts of a message: where people read them, and nowhere else."""

from hypothesis import given
from hypothesis import strategies as st

from angelon.core.messages.replacing import found, replaced
from angelon.core.specs import Message

SPEC = {
    "key": "m",
    "name": "Kite",
    "email": {
        "en": {
            "subject": "Your kite, {{ kite }}",
            "blocks": [
                {"kind": "text", "text": "A Kite for {{ kite | default('kite') }}. {% if kite %}kite{% endif %}"},
                {"kind": "button", "text": "See the kite", "url": "https://kite.example/kite"},
                {"kind": "columns", "left": [{"kind": "text", "text": "kite left"}], "right": []},
            ],
        }
    },
    "sms": {"de": {"text": "kite"}},
}


def test_every_place_is_found_and_variables_conditions_and_links_are_left():
    message = Message.model_validate(SPEC)
    places = {one.at: one.now for one in found(message, "kite", "wing")}
    assert places == {
        "email.en.subject": "Your wing, {{ kite }}",
        "email.en.blocks.0.text": "A Wing for {{ kite | default('kite') }}. {% if kite %}wing{% endif %}",
        "email.en.blocks.1.text": "See the wing",
        "email.en.blocks.2.left.0.text": "wing left",
        "sms.de.text": "wing",
    }
    assert "email.en.blocks.0.text" in {one.at for one in found(message, "Kite", "x", any_case=False)}
    assert len(found(message, "Kite", "x", any_case=False)) == 1


def test_only_the_ticked_places_change():
    message = Message.model_validate(SPEC)
    made = replaced(message, "kite", "wing", {"sms.de.text", "email.en.blocks.2.left.0.text"})
    assert made.sms["de"].text == "wing"
    assert [one.at for one in found(message, "kite", "wing") if one not in found(made, "kite", "wing")] == [
        "email.en.blocks.2.left.0.text",
        "sms.de.text",
    ]


@given(st.text(max_size=12), st.text(max_size=12))
def test_what_is_no_template_any_more_is_never_made_of_a_place_that_was_left(words, instead):
    message = Message.model_validate(SPEC)
    assert replaced(message, words or "x", instead, set()) == message
