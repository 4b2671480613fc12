"""Who may do what: four roles, and for each part of the application which of them may look and which may change.
Pure.
"""

from __future__ import annotations

ROLES: dict[str, str] = {
    "owner": "Everything, accounts and tokens included",
    "developer": "Everything but accounts and tokens",
    "writer": "Messages and their files; looks at the rest, not at payloads and settings",
    "viewer": "Looks at orders, sends, messages and routes; email addresses and phone numbers are masked",
}
"""Each role, the one that may most first, and what it may."""
FORMERLY = {"watcher": "viewer"}
"""Names that roles had before: still taken from commands and files."""
RANK = {role: number for number, role in enumerate(reversed(ROLES))}
PUBLIC = frozenset(
    {
        "static",
        "health",
        "receipts",
        "api",
        "metrics",
        "preferences",
        "answers",
        "sign_ups",
        "why",
        "follow",
        "downloads",
        "invoices",
    }
)
"""Parts that know by other means who asks, or give nothing away."""
PARTS: dict[str, tuple[str, str]] = {
    "overview": ("viewer", "developer"),
    "find": ("viewer", "viewer"),
    "live": ("viewer", "viewer"),
    "orders": ("viewer", "developer"),
    "parcels": ("viewer", "developer"),
    "documents": ("writer", "developer"),
    "document_settings": ("developer", "developer"),
    "carriers": ("developer", "developer"),
    "people": ("developer", "owner"),
    "sends": ("viewer", "developer"),
    "events": ("developer", "developer"),
    "messages": ("viewer", "writer"),
    "questions": ("viewer", "writer"),
    "sheets": ("viewer", "writer"),
    "approved": ("writer", "writer"),
    "library": ("writer", "writer"),
    "tables": ("writer", "developer"),
    "letterhead": ("writer", "developer"),
    "customer_pages": ("writer", "developer"),
    "routes": ("viewer", "developer"),
    "segments": ("writer", "developer"),
    "handlers": ("developer", "developer"),
    "sources": ("developer", "developer"),
    "mappings": ("developer", "developer"),
    "gateways": ("developer", "developer"),
    "senders": ("developer", "developer"),
    "settings": ("developer", "developer"),
    "alerts": ("developer", "developer"),
    "suppressions": ("developer", "developer"),
    "rehearsals": ("writer", "developer"),
    "forecast": ("developer", "developer"),
    "checks": ("writer", "developer"),
    "changes": ("developer", "developer"),
    "runs": ("developer", "developer"),
    "upkeep": ("developer", "developer"),
    "standins": ("developer", "developer"),
    "start": ("owner", "owner"),
    "stores": ("viewer", "owner"),
    "tokens": ("owner", "owner"),
    "accounts": ("owner", "owner"),
    "own_account": ("viewer", "viewer"),
    "guide": ("viewer", "viewer"),
    "mail_frame": ("viewer", "viewer"),
    "mail_pictures": ("viewer", "viewer"),
    "api_documentation": ("viewer", "viewer"),
}
"""For each part of the application, by its name in addresses' endpoints: who may look, and who may change."""


def may(role: str, part: str, changing: bool) -> bool:
    """Whether a role may look at a part, or change something in it. A part that has no row is nobody's."""
    if part not in PARTS or role not in RANK:
        return False
    return RANK[role] >= RANK[PARTS[part][changing]]
