"""What one process of an installation works with, whichever it is: pages, workers and commands alike."""

from __future__ import annotations

from dataclasses import dataclass

from angelon.db.access.secrets import Vault
from angelon.db.database import Database
from angelon.engine.clock import Clock
from angelon.engine.notifications import Notifier
from angelon.engine.setups import Setups


@dataclass(frozen=True)
class Installation:
    database: Database
    setups: Setups
    vault: Vault
    clock: Clock
    notifier: Notifier
