"""Every starter text as a mail, made and sent by a running Angelon, scored by SpamAssassin without network."""

from __future__ import annotations

import re
import shutil
import subprocess
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx

from tests.demos import Running

MOST = 1.0
"""The score from which on a starter text is not good enough; a mail is usually taken for spam from 5."""

CONTROL = b"""From: WIN <a@win.example>\r
To: b@example.org\r
Subject: MAKE MONEY FAST!!! FREE\r
Content-Type: text/html\r
\r
<html><body>Dear friend, you have won 1,000,000 dollars! Click here to claim your free money. Viagra.</body></html>\r
"""
"""What has to score above that, or nothing is proved."""


def run() -> tuple[dict[str, int], list[str]]:
    """How many mails were scored and their highest score in hundredths, and each text that scores too high."""
    from angelon.web.messages.starters import STARTERS

    scorer = shutil.which("spamassassin")
    if scorer is None:
        return {"mails": 0}, ["spamassassin is missing: sh scripts/ensure-mail-tools.sh"]
    broken: list[str] = [] if _score(scorer, CONTROL)[0] >= MOST else ["plain spam scores low: its rules are missing"]
    with tempfile.TemporaryDirectory() as home:
        demo = Running(Path(home))
        demo.start()
        try:
            with httpx.Client(base_url=demo.url, follow_redirects=True, timeout=30) as client:
                wanted = {}
                for starter in STARTERS:
                    for locale in starter.texts:
                        to = f"{starter.key}.{locale}@example.org"
                        why = _sent(client, starter.key, locale, to)
                        if why:
                            broken.append(f"{starter.key} in {locale}: not sent: {why}")
                        else:
                            wanted[to] = f"{starter.key} in {locale}"
                mails = {}
                for to in wanted:
                    (mail, *_) = demo.wait_for(lambda to=to: demo.mails(to))
                    mails[to] = client.get(f"/standins/mail/{mail['id']}.eml").content
        finally:
            demo.stop()
    with ThreadPoolExecutor(2) as pool:
        scores = dict(zip(mails, pool.map(lambda raw: _score(scorer, raw), mails.values()), strict=True))
    for to, (score, rules) in scores.items():
        if score >= MOST:
            broken.append(f"{wanted[to]}: {score} by {rules}")
    highest = max((score for score, _ in scores.values()), default=0.0)
    return {"mails": len(scores), "highest score in hundredths": round(highest * 100)}, broken


def _sent(client: httpx.Client, starter: str, locale: str, to: str) -> str:
    """Has a starter's mail made in a language and sent through the demo's mail server; why not, where it was not."""
    token = re.search(r'name="?csrf-token"? content="?([^">\s]+)', client.get("/messages").text)
    assert token is not None
    form = {"csrf_token": token[1], "name": f"Proof {starter} {locale}", "starter": starter}
    key = str(client.post("/messages", data=form).url.path).rpartition("/")[2]
    page = client.get(f"/messages/{key}", params={"channel": "email", "locale": locale})
    sample = re.search(r'data-sample-id="?([^"\s>]+)', page.text)
    form = {"csrf_token": token[1], "channel": "email", "locale": locale, "gateway": "mailroom", "to": to}
    answer = client.post(f"/messages/{key}/test", params={"sample": sample[1] if sample else ""}, data=form)
    return "" if answer.status_code == 200 else answer.json().get("detail", answer.text[:200])


def _score(scorer: str, raw: bytes) -> tuple[float, str]:
    done = subprocess.run([scorer, "-L"], input=raw, capture_output=True, timeout=120, check=True)
    head = done.stdout.decode(errors="replace").replace("\n\t", " ")
    found = re.search(r"X-Spam-Status: \w+, score=(-?[\d.]+) required=\S+ tests=(.*?) autolearn", head)
    assert found is not None, head[:500]
    return float(found[1]), found[2]
