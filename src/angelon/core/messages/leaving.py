"""What an optional mail says about leaving: one sentence with a link to the reader's preferences, in their language."""

from __future__ import annotations

LINK = "https://preferences.invalid/"
"""Stands in a compiled text where each reader's own link comes; `.invalid` is nobody's (RFC 2606)."""

WORDS: dict[str, tuple[str, str]] = {
    "en": ("You get this because you have ordered from us.", "Choose which notices you get"),
    "de": ("Du bekommst das, weil du bei uns bestellt hast.", "Benachrichtigungen auswählen"),
    "fr": ("Vous recevez ce message parce que vous avez commandé chez nous.", "Choisir mes notifications"),
    "es": ("Recibes este mensaje porque has hecho un pedido.", "Elegir qué avisos recibo"),
    "it": ("Ricevi questo messaggio perché hai fatto un ordine.", "Scegli quali avvisi ricevere"),
    "nl": ("Je krijgt dit bericht omdat je bij ons hebt besteld.", "Kies welke berichten je krijgt"),
    "pt": ("Recebe esta mensagem porque fez uma encomenda.", "Escolher os avisos que recebo"),
    "pl": ("Otrzymujesz tę wiadomość, ponieważ złożono u nas zamówienie.", "Wybierz powiadomienia"),
    "sv": ("Du får detta eftersom du har beställt hos oss.", "Välj vilka meddelanden du får"),
    "da": ("Du får denne besked, fordi du har bestilt hos os.", "Vælg, hvilke beskeder du får"),
    "fi": ("Saat tämän viestin, koska olet tilannut meiltä.", "Valitse, mitä viestejä saat"),
    "el": ("Λαμβάνετε αυτό το μήνυμα επειδή κάνατε παραγγελία.", "Επιλέξτε ποιες ειδοποιήσεις λαμβάνετε"),
    "ja": ("ご注文いただいたお客様にお送りしています。", "受け取る通知を選ぶ"),
}
"""By language: why the reader gets it, and what the link is called. English where a language is not here."""


def words(locale: str) -> tuple[str, str]:
    return WORDS.get(locale.partition("-")[0].lower(), WORDS["en"])


def as_html(locale: str) -> str:
    why, called = words(locale)
    return f'{why} <a href="{LINK}" style="color:inherit">{called}</a>'


def as_text(locale: str) -> str:
    why, called = words(locale)
    return f"{why} {called}: {LINK}"
