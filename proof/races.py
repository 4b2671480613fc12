"""Many who write one set-up at the same moment, over HTTP, each with the state that all have read: one of them wins."""

from __future__ import annotations

import tempfile
import threading
from pathlib import Path

import httpx

from angelon.db.access.secrets import Vault
from angelon.db.database import Database
from angelon.db.setup.live_setup import load
from angelon.engine.clock import Clock
from angelon.engine.installation import Installation
from angelon.engine.notifications import Notifier
from angelon.engine.operations import tokens
from angelon.engine.setups import Setups
from angelon.engine.unit import unit
from proof.places import KEY, place

WRITERS = 8


def run(rounds: int = 40) -> tuple[dict[str, int], list[str]]:
    broken: list[str] = []
    won = lost = 0
    with tempfile.TemporaryDirectory() as folder, place(Path(folder), "web") as here:
        assert here.up()
        around = {"Authorization": f"Bearer {_token(here.database, here.home)}"}
        for number in range(rounds):
            part = "setup" if number % 2 else "setup/gateways/mailroom"
            read = httpx.get(f"{here.url}/api/v1/{part}", headers=around, timeout=30)
            etag, held = read.headers["ETag"], read.json()
            answers, at_once = list[int](), threading.Barrier(WRITERS)

            def write(writer: int, part: str = part, held: dict = held, etag: str = etag) -> None:  # type: ignore[type-arg]
                name = {"name": f"Name {number} {writer}"}  # noqa: B023 - all are over before the next round
                changed = held | ({"store": held["store"] | name} if part == "setup" else name)
                with httpx.Client(timeout=60) as client:
                    at_once.wait(30)  # noqa: B023
                    answer = client.put(f"{here.url}/api/v1/{part}", json=changed, headers=around | {"If-Match": etag})
                answers.append(answer.status_code)  # noqa: B023

            threads = [threading.Thread(target=write, args=(writer,)) for writer in range(WRITERS)]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join(90)
            won, lost = won + answers.count(200), lost + answers.count(412)
            if sorted(answers) != [200] + [412] * (WRITERS - 1):
                broken.append(f"round {number}, {part}: {sorted(answers)}")
        odd = httpx.put(f"{here.url}/api/v1/setup", json=held, headers={**around, "If-Match": b"\xc3\xa9"}, timeout=30)
        if odd.status_code == 200:
            broken.append("an If-Match that is no ASCII was taken as none")
    return {"rounds": rounds, "won": won, "refused": lost}, broken


def _token(database: Database, home: Path) -> str:
    here = Installation(database, Setups(database), Vault(KEY), Clock(), Notifier(home))
    with database.reading() as session:
        store_id = load(session, 1).store_id
    with unit(here, store_id) as work:
        return tokens.create(work, "proof", ["setup.read", "setup.write"])
