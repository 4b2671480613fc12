"""10,000 deliveries in one burst, one of five a repeat of another: each is planned once; the peak memory is told."""

from __future__ import annotations

import random
import tempfile
import threading
from collections import Counter
from pathlib import Path

import httpx

from proof.places import place, until

REPEATS = 0.2


def run(deliveries: int = 10_000, clients: int = 8) -> tuple[dict[str, int], list[str]]:
    """How much was sent, planned and used (MiB of each process at its peak); and what does not hold."""
    rng = random.Random(4)
    distinct = int(deliveries * (1 - REPEATS))
    numbers = list(range(1, distinct + 1))
    numbers += [rng.choice(numbers) for _ in range(deliveries - distinct)]
    rng.shuffle(numbers)
    answered: Counter[int] = Counter()
    broken: list[str] = []
    with tempfile.TemporaryDirectory() as folder, place(Path(folder), "stand-ins", "planner", "sender", "web") as here:
        assert here.up()
        lock = threading.Lock()

        def work() -> None:
            with httpx.Client(timeout=60) as client:
                while True:
                    with lock:
                        number = numbers.pop() if numbers else 0
                    if not number:
                        return
                    status = here.post(client, number)
                    with lock:
                        answered[status] += 1

        threads = [threading.Thread(target=work) for _ in range(clients)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        waits = "SELECT count(*) FROM event WHERE planned_at IS NULL"
        if not until(lambda: here.rows(waits)[0][0] == 0, 300, 0.5):
            broken.append(f"{here.rows(waits)[0][0]} events are not planned after five minutes")
        peaks = here.peaks()
        stored = here.rows("SELECT count(*) FROM event WHERE parent_id IS NULL")[0][0]
        planned = here.rows("SELECT event_id, channel, count(*) FROM send GROUP BY event_id, channel")
    if set(answered) - {200, 202}:
        broken.append(f"answers other than taken: {dict(answered)}")
    if stored != distinct:
        broken.append(f"{distinct} deliveries are stored as {stored} events")
    if any(count > 1 for _, _, count in planned) or len(planned) != 2 * distinct:
        broken.append(f"{distinct} orders by two routes came to {sum(row[2] for row in planned)} sends")
    return {"deliveries": deliveries, "events": stored, "sends": len(planned), **peaks}, broken
