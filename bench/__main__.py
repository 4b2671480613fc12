"""Runs all benchmarks, or those whose names are given: `python -m bench intake mails`. With `--wide 3` it ends with 1
where a ratio is three times worse than what is aimed at: what no noise of a machine explains.
"""

from __future__ import annotations

import sys
from pathlib import Path

from angelon.engine.long_lived import tune_interpreter
from bench import (
    documents,
    faults,
    handlers,
    mapping,
    moving,
    pages,
    parcels,
    parted,
    partitions,
    reckoned,
    rendering,
    routing,
    several,
    sizes,
    space,
    starts,
    strangers,
    turns,
    writer,
)
from bench.rows import report

BENCHMARKS = {
    "intake": moving.intake,
    "pipeline": moving.pipeline,
    "forty": moving.forty,
    "pages": pages.pages,
    "sizes": sizes.sizes,
    "mails": moving.mails,
    "latency": moving.latency,
    "beside": faults.beside,
    "mapping": mapping.mapping,
    "guesses": mapping.guesses,
    "rendering": rendering.rendering,
    "planning": routing.planning,
    "listening": routing.listening,
    "effect": routing.effect,
    "handlers": handlers.handlers,
    "starts": starts.starts,
    "space": space.space,
    "several": several.several,
    "lanes": several.beside,
    "months": partitions.months,
    "parted": parted.parted,
    "reckoned": reckoned.reckoned,
    "parcels": parcels.parcels,
    "strangers": strangers.strangers,
    "writer": writer.writer,
    "turns": turns.turns,
    "documents": documents.documents,
}

arguments = sys.argv[1:]
wide = float(arguments.pop(arguments.index("--wide") + 1)) if "--wide" in arguments else 0.0
chosen = [name for name in arguments if name != "--wide"] or list(BENCHMARKS)
tune_interpreter()  # as the processes have it whose work is measured in this one
rows = [row for name in chosen for row in BENCHMARKS[name]()]
report(rows, Path(__file__).with_name("results.json"))
sys.exit(1 if wide and any(row.unit.startswith("x") and row.beyond(wide) for row in rows) else 0)
