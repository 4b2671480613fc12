"""Numbers of invoices have no gap and no double, whoever asks at once and whoever is killed in the middle."""

import os
import random
import subprocess
import sys
import time

from tests import made
from tests.engine.test_documents import shop  # noqa: F401 - a fixture

PROGRAM = """
import os, random, sys, time
from angelon.db.log import orders
from angelon.engine.operations import documents as operations
from angelon.engine.operations.documents import Request
from angelon.engine.unit import Actor, unit
from angelon.settings import Settings
from angelon.web.services import make
services = make(Settings())
store_id = services.setups.ids()[0]
with services.database.reading() as session:
    rows = list(orders.by_ids(session, store_id, range(1, 400)))
print("ready", flush=True)
sys.stdin.readline()
rng = random.Random(int(sys.argv[1]))
rng.shuffle(rows)
for row in rows:
    with unit(services.installation, store_id, Actor(sys.argv[1])) as work:
        made = operations.issue(work, row, Request())
        if made.new and rng.random() < 0.3:
            operations.credit(work, made.id)
"""


def _invoices(shop) -> int:  # noqa: F811
    return shop.bench.rows("SELECT count(*) FROM document WHERE kind = 'invoice'")[0][0]


def test_processes_that_are_killed_leave_no_gap(shop):  # noqa: F811
    for number in range(40):
        shop.bench.deliver(
            made.body(id=number, reference=f"BK-{number}", buyer={"name": "Jo", "email": f"j{number}@example.org",
                      "country": "IE"}), store_delivery=f"d{number}",
        )  # fmt: skip
    for _ in range(5):
        shop.bench.plan()
    if not shop.bench.database.sqlite:
        environment = {"ANGELON_DATABASE_URL": shop.bench.services.settings.url}
    else:
        environment = {}
    environment |= {"ANGELON_HOME": str(shop.bench.home), "ANGELON_SECRET_KEY": "a-key-for-tests-only"}
    rng, done = random.Random(5), []
    for turn in range(2):
        clerks = [
            subprocess.Popen(
                [sys.executable, "-c", PROGRAM, str(10 * turn + one)], env=os.environ | environment,
                stdin=subprocess.PIPE, stdout=subprocess.PIPE,
            )
            for one in range(2)
        ]  # fmt: skip
        for clerk in clerks:
            assert clerk.stdout.readline() == b"ready\n"
        for clerk in clerks:
            clerk.stdin.write(b"go\n")
            clerk.stdin.flush()
        some = rng.randrange(2, 15)
        while turn < 1 and _invoices(shop) < some:
            time.sleep(0.001)
        for clerk in clerks:
            if turn < 1:
                clerk.kill()
            clerk.wait(60)
            clerk.stdin.close()
            clerk.stdout.close()
        done.append(_invoices(shop))
    assert min(done) < 40, "they were killed in the middle"
    for kind in ("invoice", "credit"):
        rows = shop.bench.rows("SELECT number FROM document WHERE kind = ? ORDER BY number", kind)
        assert [row.number for row in rows] == list(range(1, len(rows) + 1)), kind
    twice = shop.bench.rows(
        "SELECT order_id FROM document WHERE kind = 'invoice' AND NOT over GROUP BY order_id HAVING count(*) > 1"
    )
    assert twice == []
    invoices = {row.id: row.gross for row in shop.bench.rows("SELECT id, gross FROM document WHERE kind = 'invoice'")}
    assert len(invoices) >= 40
    for row in shop.bench.rows("SELECT corrects_id, gross FROM document WHERE kind = 'credit'"):
        assert invoices[row.corrects_id] == row.gross
