"""`kill -9` of web, planner and sender under load, again and again: nothing acknowledged is lost, nothing doubled
without a mark.
"""

from __future__ import annotations

import itertools
import random
import tempfile
import threading
from collections import Counter
from pathlib import Path

from angelon.standins.box import Box
from proof.places import place, until


def run(rounds: int = 200, senders: int = 4) -> tuple[dict[str, int], list[str]]:
    rng = random.Random(9)
    accepted: set[int] = set()
    stop = threading.Event()
    broken = []
    with tempfile.TemporaryDirectory() as folder, place(Path(folder), "stand-ins", "planner", "sender", "web") as here:
        assert here.up()
        posting = (stop, itertools.count(1), accepted, 0.08)
        threads = [threading.Thread(target=here.keep_posting, args=posting) for _ in range(senders)]
        for thread in threads:
            thread.start()
        broken += here.kill_again_and_again(rounds, rng, 0.2, 0.7)
        stop.set()
        for thread in threads:
            thread.join()
        if not here.up(60):
            broken.append("the web process does not answer at the end")
        settled = until(
            lambda: (
                here.rows("SELECT count(*) FROM event WHERE planned_at IS NULL")[0][0] == 0
                and here.rows("SELECT count(*) FROM send WHERE state NOT IN ('sent', 'delivered')")[0][0] == 0
            ),
            240,
            0.5,
        )
        if not settled:
            broken.append(
                f"not all was sent in the end: {here.rows('SELECT state, count(*) FROM send GROUP BY state')}"
            )
        stored = {
            int(key.removeprefix("d:d"))
            for (key,) in here.rows("SELECT delivery_key FROM event WHERE parent_id IS NULL")
        }
        lost = accepted - stored
        if lost:
            broken.append(f"{len(lost)} deliveries were acknowledged and are not stored: {sorted(lost)[:5]}")
        sends = here.rows("SELECT recipient, channel, count(*) FROM send GROUP BY recipient, channel")
        twice = [row for row in sends if row[2] > 1]
        if twice:
            broken.append(f"{len(twice)} people have two sends of one route: {twice[:3]}")
        if len(sends) != 2 * len(stored):
            broken.append(f"{len(stored)} orders came to {len(sends)} sends")
        unknown = {
            row[0]
            for row in here.rows(
                "SELECT s.recipient FROM attempt a JOIN send s ON s.id = a.send_id WHERE a.outcome = 'unknown'"
            )
        }
        box = Box(here.outside)
        mails = Counter(mail.rcpt_to for mail in box.mails(1_000_000))
        texts = Counter(text.to for text in box.texts(1_000_000))
        doubled = {to for to, number in (mails + texts).items() if number > 1}
        if doubled - unknown:
            broken.append(
                f"{len(doubled - unknown)} people got a message twice without a mark: {sorted(doubled - unknown)[:5]}"
            )
        never = [f"p{number}@example.org" for number in stored if not mails[f"p{number}@example.org"]]
        if never:
            broken.append(f"{len(never)} people never got their mail: {never[:5]}")
        (check,) = here.rows("PRAGMA integrity_check")
        if check != ("ok",):
            broken.append(f"the database is damaged: {check}")
    counts = {
        "kills": rounds,
        "acknowledged": len(accepted),
        "stored": len(stored),
        "sends": len(sends),
        "lost": len(lost),
        "doubled, all marked as unknown": len(doubled & unknown),
        "doubled without a mark": len(doubled - unknown),
    }
    return counts, broken
