"""What answers mean: enhanced status codes of mail (RFC 3463, and the IANA registry of RFC 5248), and HTTP statuses."""

from __future__ import annotations

import re
from typing import NamedTuple

_ENHANCED = re.compile(r"\b([245])\.(\d{1,3})\.(\d{1,3})\b")


class Meaning(NamedTuple):
    words: str
    nobody_there: bool = False
    """Whether the address itself is gone or never was, so that nothing is to be sent there any more."""


MAIL: dict[str, Meaning] = {
    "1.1": Meaning("there is no such mailbox", True),
    "1.2": Meaning("there is no such mail system", True),
    "1.3": Meaning("the address is not well formed", True),
    "1.6": Meaning("the mailbox has moved and left no address", True),
    "1.10": Meaning("the domain takes no mail (null MX)", True),
    "2.1": Meaning("the mailbox is disabled", True),
    "2.2": Meaning("the mailbox is full"),
    "2.3": Meaning("the message is too long for the mailbox"),
    "3.4": Meaning("the message is too large for the system"),
    "4.1": Meaning("the host does not answer"),
    "4.4": Meaning("the mail can't be routed"),
    "4.7": Meaning("it took too long to deliver"),
    "5.3": Meaning("there are too many recipients"),
    "6.0": Meaning("the content can't be taken"),
    "7.1": Meaning("the sender may not send to this address"),
    "7.8": Meaning("the user name or password is wrong"),
    "7.20": Meaning("there is no DKIM signature that passes"),
    "7.23": Meaning("the SPF check fails"),
    "7.26": Meaning("neither SPF nor DKIM vouch for the sender"),
    "7.27": Meaning("the sender's domain takes no mail"),
}
"""By subject and detail; the class (4 for now, 5 for good) stands before."""

HTTP: dict[int, str] = {
    400: "the request is not understood",
    401: "the credentials are not right; tried again",
    402: "the account has no credit; tried again",
    403: "the account may not do this",
    404: "there is no such thing",
    408: "the request took too long; tried again",
    409: "it conflicts with what is there",
    410: "it is gone for good",
    413: "the request is too large",
    422: "what is asked for can't be done",
    425: "it was sent too early; tried again",
    429: "too much was asked at once; tried again when Retry-After says",
    500: "something is wrong on the other side; tried again",
    502: "a server between does not reach the other side; tried again",
    503: "the other side is not available; tried again",
    504: "the other side did not answer a server between; tried again",
}


def listed(kind: str) -> list[tuple[str, str, str]]:
    """What a kind of gateway may answer: the code, what it means, and what Angelon does."""
    if kind == "smtp":
        return [
            (f"x.{code}", one.words, "5: the address is suppressed" if one.nobody_there else "4: tried again; 5: not")
            for code, one in MAIL.items()
        ]
    again = "; tried again"
    return [
        (str(code), words.partition(";")[0], words.partition("; ")[2] if again in words else "not tried again")
        for code, words in HTTP.items()
    ]


def meaning(answer: str) -> Meaning | None:
    """What a mail server's answer means, by the first enhanced code in it; None where it has none that is known."""
    found = _ENHANCED.search(answer)
    return MAIL.get(f"{found[2]}.{found[3]}") if found else None


def is_nobody(answer: str) -> bool:
    """Whether an answer says for good (class 5) that nobody is at the address."""
    found = _ENHANCED.search(answer)
    known = MAIL.get(f"{found[2]}.{found[3]}") if found else None
    return bool(found and found[1] == "5" and known is not None and known.nobody_there)
