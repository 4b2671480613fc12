"""What the shop is told when nobody else could be: our own words, in the shop's letterhead."""

from __future__ import annotations

from functools import lru_cache

from angelon.core.specs.message import Message
from angelon.core.values import Value

_WORDS = {
    "en": (
        "Not reached: {{ notice_whom }}",
        "A customer was not reached",
        "“{{ notice_message }}” did not reach {{ notice_whom }}. {{ problem }}",
        "Open the send",
        "The route {{ notice_route }} has no fallback left.",
    ),
    "de": (
        "Nicht erreicht: {{ notice_whom }}",
        "Jemand wurde nicht erreicht",
        "„{{ notice_message }}“ hat {{ notice_whom }} nicht erreicht. {{ problem }}",
        "Ansehen und beheben",
        "Die Route {{ notice_route }} hat keinen anderen Weg mehr.",
    ),
    "fr": (
        "Pas prévenu : {{ notice_whom }}",
        "Quelqu’un n’a pas été prévenu",
        "« {{ notice_message }} » n’est pas arrivé chez {{ notice_whom }}. {{ problem }}",
        "Voir et réparer",
        "La route {{ notice_route }} n’a plus d’autre voie.",
    ),
}


@lru_cache(maxsize=64)
def notice(locale: str) -> Message:
    """The mail to somebody of the shop, in their language where it is one of ours, else English."""
    subject, heading, text, button, rest = _WORDS.get(locale.partition("-")[0], _WORDS["en"])
    blocks = [
        {"kind": "heading", "text": heading},
        {"kind": "text", "text": text},
        {"kind": "button", "text": button, "url": "{{ problem_link }}"},
        {"kind": "text", "text": rest},
    ]
    return Message.model_validate(
        {"key": "notice", "name": "Notice to the shop", "email": {locale: {"subject": subject, "blocks": blocks}}}
    )


def notice_values(why: str, route: str, message: str, whom: str, link: str) -> dict[str, Value]:
    """What the notice says; `whom` is the customer, with the order's number where there is one."""
    return {"problem": why, "notice_route": route, "notice_message": message, "notice_whom": whom, "problem_link": link}
