"""Links to the pages that customers see: sealed or proven, so that nobody can make one for another, nor read an address
in it.
"""

from __future__ import annotations

import json
import re
from dataclasses import dataclass

from angelon.core.messages.known_fields import SAMPLE_END
from angelon.core.sending.returned import return_path
from angelon.db.access.secrets import Vault
from angelon.db.setup.live_setup import LiveSetup

LEAVING = "leaving"
"""What a link to a reader's preferences is sealed for."""


@dataclass(frozen=True, slots=True)
class Reader:
    """Whose preferences a link opens, and of which mail it is."""

    store_id: int
    address_key: str
    message: str
    locale: str


class Links:
    """Makes and reads links. `base_url` is the installation's public address, where a store has none of its own."""

    def __init__(self, vault: Vault, base_url: str = "") -> None:
        self.vault, self._base_url = vault, base_url

    def address(self, live: LiveSetup, reader: Reader) -> str:
        """The address of a reader's page; empty where no public address is set."""
        base = live.setup.store.base_url or self._base_url
        told = json.dumps([reader.store_id, reader.address_key, reader.message, reader.locale], ensure_ascii=False)
        return f"{base}/p/{self.vault.seal(told, LEAVING)}" if base else ""

    def question(self, live: LiveSetup, question_id: str | None) -> dict[str, str]:
        """What a text says of the question that it asks: `link`, and its end as `token`; those of nobody's question for
        a test. Empty where no public address is set.
        """
        base = live.setup.store.base_url or self._base_url
        end = SAMPLE_END
        if question_id:
            end = f"{question_id.partition('-')[2]}-{self.vault.proof(f'question:{question_id}')}"
        return {"link": f"{base}/a/{end}", "token": end} if base else {}

    def read_question(self, token: str) -> str | None:
        """The id of the question that a link's end opens; None for one that is none of ours."""
        name, _, proof = token.partition("-")
        id_ = f"qn-{name}"
        return id_ if name and self.vault.proves(f"question:{id_}", proof) else None

    def follow(self, live: LiveSetup, order_id: int | None) -> str:
        """The address of the page where a customer follows an order's parcels; empty where the shop has no such page,
        or no public address is set.
        """
        base = live.setup.store.base_url or self._base_url
        return f"{base}/f/{self.follow_token(order_id)}" if base and order_id and live.setup.store.pages.follow else ""

    def follow_token(self, order_id: int) -> str:
        return f"{order_id:x}-{self.vault.proof(f'follow:{order_id}')}"

    def read_follow(self, token: str) -> int | None:
        """The id of the order whose parcels a link's end opens; None for one that is none of ours."""
        name, _, proof = token.partition("-")
        if not re.fullmatch("[0-9a-f]{1,15}", name):
            return None
        order_id = int(name, 16)
        return order_id if self.vault.proves(f"follow:{order_id}", proof) else None

    def invoice_token(self, order_id: int) -> str:
        return f"{order_id:x}-{self.vault.proof(f'invoice:{order_id}')}"

    def read_invoice(self, token: str) -> int | None:
        """The id of the order whose invoice a link's end opens; None for one that is none of ours."""
        name, _, proof = token.partition("-")
        if not re.fullmatch("[0-9a-f]{1,15}", name):
            return None
        order_id = int(name, 16)
        return order_id if self.vault.proves(f"invoice:{order_id}", proof) else None

    def why(self, live: LiveSetup, send_id: str) -> str:
        """The address of the page that says why a message came; empty where no public address is set."""
        base = live.setup.store.base_url or self._base_url
        return f"{base}/w/{self.why_token(send_id)}" if base else ""

    def why_token(self, send_id: str) -> str:
        return f"{send_id.partition('-')[2]}-{self.vault.proof(f'why:{send_id}')}"

    def read_why(self, token: str) -> str | None:
        """The id of the send that a link's end is about; None for one that is none of ours."""
        name, _, proof = token.partition("-")
        id_ = f"sd-{name}"
        return id_ if name and self.vault.proves(f"why:{id_}", proof) else None

    def download(self, live: LiveSetup, send_id: str) -> str:
        """The address of the page with a message's files; empty where no public address is set."""
        base = live.setup.store.base_url or self._base_url
        return f"{base}/d/{send_id.partition('-')[2]}-{self.vault.proof(f'download:{send_id}')}" if base else ""

    def read_download(self, token: str) -> str | None:
        """The id of the send whose files a link's end opens; None for one that is none of ours."""
        name, _, proof = token.partition("-")
        id_ = f"sd-{name}"
        return id_ if name and self.vault.proves(f"download:{id_}", proof) else None

    def ticket(self, send_id: str, file: int, until: int) -> str:
        """What opens one file for a while (seconds since 1970), so that a download that broke off can go on."""
        return f"{until:x}-{self.vault.proof(f'ticket:{send_id}:{file}:{until}')}"

    def read_ticket(self, send_id: str, file: int, ticket: str) -> int | None:
        """Until when a ticket opens a file; None for one that is none of ours."""
        text, _, proof = ticket.partition("-")
        if not re.fullmatch("[0-9a-f]{1,12}", text):
            return None
        until = int(text, 16)
        return until if self.vault.proves(f"ticket:{send_id}:{file}:{until}", proof) else None

    def return_path(self, pattern: str, send_id: str) -> str:
        """Where a send's mail goes that can't be delivered."""
        return return_path(pattern, send_id, self.vault.proof(send_id))

    def read(self, token: str) -> Reader | None:
        """Whose page a link opens; None for a link that is none of ours, or was sealed under an older key."""
        told = self.vault.unseal(token, LEAVING, lambda text: _reader(text) is not None)
        return _reader(told) if told is not None else None


def _reader(told: str) -> Reader | None:
    """What a link's seal holds; None where it is something else."""
    try:
        match json.loads(told):
            case [int(store_id), str(address_key), str(message), str(locale)] if 0 < store_id < 2**31:
                return Reader(store_id, address_key, message, locale)
    except (ValueError, RecursionError):
        pass
    return None
