"""Runs all proofs, or those whose names are given: `python -m proof kills disk`. Ends with 1 where one does
not hold.
"""

from __future__ import annotations

import sys
import time

from proof import (
    alert_day,
    answers,
    asked,
    bombs,
    booted,
    burst,
    changes,
    composed,
    deployed,
    described,
    disk,
    door,
    forms,
    image,
    kills,
    looks,
    masks,
    payloads,
    pooled,
    races,
    shop_day,
    spam,
    suite,
    wheel,
)

PROOFS = {
    "kills": kills.run,
    "answers": answers.run,
    "asked": asked.run,
    "disk": disk.run,
    "payloads": payloads.run,
    "door": door.run,
    "burst": burst.run,
    "backlog": changes.backlog,
    "restarts": changes.restarts,
    "moves": changes.moves,
    "described": described.run,
    "forms": forms.run,
    "looks": looks.run,
    "spam": spam.run,
    "day": shop_day.run,
    "masks": masks.run,
    "races": races.run,
    "bombs": bombs.run,
    "wheel": wheel.run,
    "deployed": deployed.run,
    "booted": booted.run,
    "pooled": pooled.run,
    "image": image.run,
    "composed": composed.run,
    "suite": suite.run,
    "alerts": alert_day.run,
}

failed = False
for name in sys.argv[1:] or list(PROOFS):
    began = time.monotonic()
    counts, broken = PROOFS[name]()
    print(
        f"{name}: "
        + ", ".join(f"{what} {number:,}" for what, number in counts.items())
        + f" ({time.monotonic() - began:.0f} s)",
        flush=True,
    )
    for line in broken:
        print(f"  BROKEN: {line}", flush=True)
    failed = failed or bool(broken)
sys.exit(1 if failed else 0)
