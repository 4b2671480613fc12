"""A typed client for the API of an Angelon that runs elsewhere.

from angelon.client import Client

with Client("https://angelon.example", "angelon_…") as angelon:
    for send in angelon.sends(state="failed"):
        print(send.order_number, send.reason)
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any, Literal, TypeVar
from urllib.parse import quote

import httpx
from pydantic import BaseModel

from angelon.client import models

ModelT = TypeVar("ModelT", bound=BaseModel)


class ApiError(RuntimeError):
    """What the server refused, with its problem details (RFC 9457)."""

    def __init__(self, problem: models.ProblemDetails, headers: Mapping[str, str]) -> None:
        super().__init__(f"{problem.status} {problem.title}: {problem.detail}")
        self.problem, self.headers = problem, headers

    @property
    def status(self) -> int:
        return self.problem.status


class Client:
    """Raises ApiError where the server refuses, and httpx's errors where it can't be reached. Times are aware."""

    def __init__(self, url: str, token: str, timeout: float = 30, transport: httpx.BaseTransport | None = None) -> None:
        headers = {"Authorization": f"Bearer {token}", "User-Agent": "angelon-client"}
        base = f"{url.rstrip('/')}/api/v1"
        self._http = httpx.Client(base_url=base, headers=headers, timeout=timeout, transport=transport)

    def __enter__(self) -> Client:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        self._http.close()

    def deliver(
        self, source: str, payload: Any, *, name: str = "", key: str = "", content_type: str = "application/json"
    ) -> models.Accepted:
        """Hands in an event: JSON, or bytes of whatever the source reads. `key` makes a second try the same event."""
        headers = {"Content-Type": content_type} | ({"Idempotency-Key": key} if key else {})
        query = {"name": name} if name else {}
        body = payload if isinstance(payload, bytes) else httpx.Request("POST", "http://x", json=payload).content
        return self._ask(
            models.Accepted, "POST", f"/sources/{source}/events", params=query, content=body, headers=headers
        )

    def event(self, event_id: str) -> models.Event:
        return self._ask(models.Event, "GET", f"/events/{event_id}")

    def sends(self, **filters: Any) -> Iterator[models.Send]:
        """Every send that fits (`SendsQuery`), the newest first, asked for a part at a time."""
        yield from self._all(models.Sends, "/sends", filters)

    def send(self, send_id: str) -> models.SendDetails:
        return self._ask(models.SendDetails, "GET", f"/sends/{send_id}")

    def act(self, act: Literal["retry", "hold", "cancel"], ids: list[str]) -> models.Acted:
        return self._ask(models.Acted, "POST", "/sends/act", json={"act": act, "ids": ids})

    def act_on_all(self, act: Literal["retry", "hold", "cancel"], **filters: Any) -> int:
        """Does one thing with every send that fits; says how many were moved."""
        moved, after = 0, ""
        while True:
            done = self._ask(
                models.Acted, "POST", "/sends/act", json={"act": act, "filter": _plain(filters), "after": after}
            )
            moved, after = moved + done.moved, done.next
            if not after:
                return moved

    def orders(self, **filters: Any) -> Iterator[models.Order]:
        yield from self._all(models.Orders, "/orders", filters)

    def order(self, order_id: int) -> models.OrderDetails:
        return self._ask(models.OrderDetails, "GET", f"/orders/{order_id}")

    def parcels(self, **filters: Any) -> Iterator[models.Parcel]:
        """Every parcel that fits, those first of which something was told last."""
        yield from self._all(models.Parcels, "/parcels", filters)

    def tell_parcels(self, *parcels: models.TellParcel) -> models.ParcelsTold:
        """Tells of parcels: that there are, and how far they are."""
        body = models.TellParcels(parcels=list(parcels)).model_dump(mode="json", exclude_defaults=True)
        return self._ask(models.ParcelsTold, "POST", "/parcels", json=body)

    def documents(self, **filters: Any) -> Iterator[models.Document]:
        """Every invoice and credit note that fits, the newest first."""
        yield from self._all(models.Documents, "/documents", filters)

    def document(self, document_id: int) -> models.DocumentDetails:
        return self._ask(models.DocumentDetails, "GET", f"/documents/{document_id}")

    def make_invoice(self, order_id: int, **given: Any) -> models.DocumentDetails:
        """An order's invoice: the same for the same request."""
        body = models.MakeInvoice(**given).model_dump(mode="json", exclude_defaults=True)
        return self._ask(models.DocumentDetails, "POST", f"/orders/{order_id}/invoice", json=body)

    def people(self, **filters: Any) -> Iterator[models.Person]:
        yield from self._all(models.People, "/people", filters)

    def person(self, person_id: int) -> models.PersonDetails:
        return self._ask(models.PersonDetails, "GET", f"/people/{person_id}")

    def set_tag(self, person_id: int, tag: str, on: bool = True) -> models.PersonDetails:
        return self._ask(models.PersonDetails, "POST", f"/people/{person_id}/tags", json={"tag": tag, "on": on})

    def note_consent(self, address: str, channel: str, granted: bool, where: str, words: str = "") -> None:
        """What somebody has said about being written to; `where` and `words` are the proof."""
        body = {"address": address, "channel": channel, "granted": granted, "where": where, "words": words}
        self._send("POST", "/consents", json=body)

    def suppressions(self, **filters: Any) -> Iterator[models.Suppression]:
        yield from self._all(models.Suppressions, "/suppressions", filters)

    def suppress(self, addresses: list[str], why: str = "") -> models.Suppressed:
        return self._ask(models.Suppressed, "POST", "/suppressions", json={"addresses": addresses, "why": why})

    def unsuppress(self, suppression_id: int) -> None:
        self._send("DELETE", f"/suppressions/{suppression_id}")

    def rehearse(self, source: str, payload: Any, **more: Any) -> models.Rehearsed:
        body = {"source": source, "payload": payload, **_plain(more)}
        return self._ask(models.Rehearsed, "POST", "/rehearsals", json=body)

    def check(self) -> models.Checked:
        """Runs every check."""
        return self._ask(models.Checked, "POST", "/checks/run")

    def setup(self) -> models.Setup:
        answer = self._send("GET", "/setup")
        return models.Setup(bundle=answer.json(), etag=answer.headers["ETag"])

    def apply(self, bundle: Mapping[str, Any], *, dry_run: bool = False, etag: str = "") -> models.SetupChanged:
        """Applies a bundle, all or nothing; with `etag` only where the set-up is still the one that had it."""
        headers = {"If-Match": etag} if etag else {}
        query = {"dry_run": "true"} if dry_run else {}
        return self._ask(models.SetupChanged, "PUT", "/setup", params=query, json=dict(bundle), headers=headers)

    def part(self, kind: str, key: str) -> models.SetupPart:
        """One of the `sources`, `variables`, `gateways`, `messages` or `routes` of the set-up."""
        answer = self._send("GET", f"/setup/{kind}/{quote(key, safe='')}")
        return models.SetupPart(spec=answer.json(), etag=answer.headers["ETag"])

    def put(
        self, kind: str, key: str, spec: Mapping[str, Any], *, dry_run: bool = False, etag: str = ""
    ) -> models.SetupChanged:
        """Creates or replaces one of them; with `etag` only where it is still the one that had it. A route's `on`
        switches it on or off.
        """
        headers = {"If-Match": etag} if etag else {}
        query = {"dry_run": "true"} if dry_run else {}
        path = f"/setup/{kind}/{quote(key, safe='')}"
        return self._ask(models.SetupChanged, "PUT", path, params=query, json=dict(spec), headers=headers)

    def _all(self, kind: Any, path: str, filters: Mapping[str, Any]) -> Iterator[Any]:
        query = _plain(filters)
        while True:
            page = self._ask(kind, "GET", path, params=query)
            yield from page.items
            if not page.next:
                return
            query["cursor"] = page.next

    def _ask(self, kind: type[ModelT], method: str, path: str, **arguments: Any) -> ModelT:
        return kind.model_validate_json(self._send(method, path, **arguments).content)

    def _send(self, method: str, path: str, **arguments: Any) -> httpx.Response:
        answer = self._http.request(method, path, **arguments)
        if answer.is_success:
            return answer
        try:
            problem = models.ProblemDetails.model_validate_json(answer.content)
        except ValueError:
            text = " ".join(answer.text.split())[:300]
            problem = models.ProblemDetails(title=answer.reason_phrase, status=answer.status_code, detail=text)
        raise ApiError(problem, answer.headers)


def _plain(filters: Mapping[str, Any]) -> dict[str, Any]:
    """Filters as they travel: moments in ISO 8601, lists parted by commas, none left out."""
    made = {}
    for name, value in filters.items():
        if value is None:
            continue
        if hasattr(value, "isoformat"):
            value = value.isoformat()
        made[name] = ",".join(map(str, value)) if isinstance(value, list | tuple) else value
    return made
