"""One-word answers by which people leave and come back, as the rules of SMS know them, in the languages of shops."""

from __future__ import annotations

import re

_STOP = """
    stop stopp stopall unsubscribe optout stopplease pleasestop
    arret arrêt desabonner désabonner parar ferma fermati abbestellen abmelden stoppbitte stopbitte bittestopp bittestop
    stoppen afmelden sluta avsluta lopeta wypisz διακοπη διακοπή 停止 配信停止
"""
_BY_SMS = "cancel end quit baja cancelar annulla"
"""Words that mean leaving where SMS has made them so, and elsewhere are answers: “Cancel” to “Shall we send it?”."""
_START = "start unstop subscribe optin commencer reprendre iniciar alta inizia aanmelden börja aloita 開始"
STOP, START = frozenset(_STOP.split()), frozenset(_START.split())
STOP_BY_SMS = STOP | frozenset(_BY_SMS.split())


def command(text: str, channel: str = "sms") -> str:
    """`stop`, `start`, or nothing: the whole answer has to be that word, whatever stands around it."""
    word = re.sub(r"[\s.!?,;:'\"“”„()\-_*]+", "", text).casefold()
    stops = STOP_BY_SMS if channel == "sms" else STOP
    return "stop" if word in stops else "start" if word in START else ""
