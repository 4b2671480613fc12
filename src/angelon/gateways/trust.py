"""Which certificates are trusted: read once a process, which takes some tens of milliseconds of computing."""

from __future__ import annotations

import ssl
from functools import lru_cache


@lru_cache(maxsize=1)
def trusted() -> ssl.SSLContext:
    """A client's context with this machine's certificate authorities; names are checked."""
    return ssl.create_default_context()
