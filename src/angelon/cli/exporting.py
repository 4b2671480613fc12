"""The command that writes what has come in and gone out as files of rows."""

from __future__ import annotations

import contextlib
import os
import time

import click

from angelon.cli.opening import open_installation
from angelon.cli.output import json_too, say

EVERY = 2.0
"""Seconds between two lines about how far it is."""


@click.command()
@click.argument("to", metavar="TO")
@json_too
@click.option("--as", "form", type=click.Choice(["csv", "jsonl", "parquet"]), default="csv", show_default=True)
@click.option("--only", multiple=True, help="orders, customers, sends, documents or parcels; may be repeated.")
@click.option("--keep", type=click.IntRange(0), default=0, help="Keep the folders of the newest so many days.")
@click.option("--once", is_flag=True, help="Leave out a store whose files of today are there.")
def data(to: str, form: str, only: tuple[str, ...], keep: int, once: bool) -> None:
    """Write orders, customers, sends, documents and parcels into TO.

    TO is a folder, or s3://bucket/prefix. Each store has a folder, and in it each day. It reads while Angelon runs, a
    little at a time. For Parquet and object stores: pip install 'angelon[parquet]'.
    """
    from angelon.core.problems import Invalid, Problem
    from angelon.engine.exports import snapshot, targets

    unknown = [kind for kind in only if kind not in snapshot.KINDS]
    if unknown:
        raise Invalid([Problem("only", f"There is no kind “{unknown[0]}”.", f"One of: {', '.join(snapshot.KINDS)}.")])
    with contextlib.suppress(OSError):
        os.nice(10)  # whoever runs beside it goes first
    installation, said_at = open_installation(), time.monotonic()
    target, stores = targets.target_of(to), {}

    def told(kind: str, rows: int) -> None:
        nonlocal said_at
        if time.monotonic() - said_at > EVERY:
            said_at = time.monotonic()
            say(f"{kind}: {rows:,} so far")

    for store_id in installation.setups.ids():
        live, now = installation.setups.get(store_id), installation.clock.now()
        if once and snapshot.is_there(target, live.setup.store.key, now.date()):
            continue
        written = snapshot.write(installation.database, live, target, now, form, only, told)  # type: ignore[arg-type]
        key = live.setup.store.key
        gone = snapshot.let_go(target, key, keep)
        stores[key] = {"rows": written, "removed_days": gone}
        rows = ", ".join(f"{number:,} {kind}" for kind, number in written.items())
        say(f"{key}: {rows}." + (f" Removed: {', '.join(gone)}." if gone else ""))
    say("", to=to.partition("?")[0], stores=stores)
    installation.database.close()
