"""The chat provider's reviewer: stated rules, the same for everybody."""

from __future__ import annotations

import re
from typing import Any

RULES = (
    "No placeholder at the start or the end of the header or body.",
    "No two placeholders side by side.",
    "A sample for every placeholder.",
    "Header and footer at most 80 characters, body 1,000, a button 24.",
    "One language, the one that was named.",
)

_SAYS = {
    "en": {"the", "your", "you", "is", "and", "has", "have", "we", "it", "of", "with", "for", "to", "our", "order"},
    "de": {
        "die",
        "der",
        "das",
        "dein",
        "deine",
        "ist",
        "und",
        "wir",
        "es",
        "mit",
        "für",
        "bei",
        "dir",
        "hat",
        "bestellung",
        "ihre",
    },
    "fr": {
        "le",
        "la",
        "les",
        "ta",
        "ton",
        "votre",
        "est",
        "et",
        "nous",
        "il",
        "elle",
        "avec",
        "pour",
        "chez",
        "commande",
        "de",
    },
    "es": {"el", "los", "tu", "su", "es", "y", "nosotros", "con", "para", "pedido", "ha", "en"},
}
_CALLED = {"en": "English", "de": "German", "fr": "French", "es": "Spanish"}


def review(text: dict[str, Any]) -> str:
    """Why a text is rejected; empty where it is approved."""
    header, body, footer = (
        str((text.get("header") or {}).get("text", "")),
        str(text.get("body", "")),
        str(text.get("footer", "")),
    )
    for name, part in (("header", header), ("body", body)):
        if re.match(r"\s*\{\d+\}", part) or re.search(r"\{\d+\}\s*$", part):
            return f"The {name} starts or ends with a placeholder."
        if re.search(r"\{\d+\}\s*\{\d+\}", part):
            return f"Two placeholders are side by side in the {name}."
    numbers = {
        int(n) for n in re.findall(r"\{(\d+)\}", " ".join([header, body, footer, str(text.get("buttons") or "")]))
    }
    samples = [str(sample).strip() for sample in text.get("samples") or []]
    if numbers != set(range(1, len(numbers) + 1)) or len(numbers) > len(samples) or not all(samples[: len(numbers)]):
        return "A placeholder has no sample."
    if not body.strip():
        return "The body is empty."
    for name, part, most in (("header", header, 80), ("footer", footer, 80), ("body", body, 1000)):
        if len(part) > most:
            return f"The {name} is longer than {most} characters."
    if any(len(str(button.get("text", ""))) > 24 for button in text.get("buttons") or []):
        return "A button is longer than 24 characters."
    return _language(str(text.get("language", "")), body)


def _language(named: str, body: str) -> str:
    words = re.findall(r"[^\W\d_]+", body.lower())
    counts = {language: sum(word in known for word in words) for language, known in _SAYS.items()}
    best = max(counts, key=lambda language: counts[language])
    language = named.partition("-")[0]
    if language in counts and best != language and counts[best] >= 3 and counts[best] >= counts[language] + 2:
        return f"It reads as {_CALLED[best]}, and it was handed in as {_CALLED[language]}."
    return ""
