"""One-word answers by which people leave and come back, as the rules of SMS know them, in the languages of shops."""

from __future__ import annotations

import re

_STOP = """
    stop stopp stopall unsubscribe cancel end quit optout
    arret arrêt desabonner désabonner parar baja cancelar ferma fermati annulla
    stoppen afmelden sluta avsluta lopeta wypisz διακοπη διακοπή 停止 配信停止
"""
_START = "start unstop subscribe optin commencer reprendre iniciar alta inizia aanmelden börja aloita 開始"
STOP, START = frozenset(_STOP.split()), frozenset(_START.split())


def command(text: str) -> str:
    """`stop`, `start`, or nothing: the whole answer has to be that word, whatever stands around it."""
    word = re.sub(r"[\s.!?,;:'\"“”„()\-_*]+", "", text).casefold()
    return "stop" if word in STOP else "start" if word in START else ""
