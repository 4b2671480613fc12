"""The whole set-up as a bundle: read, tried, applied."""

from __future__ import annotations

from typing import Any

from flask import request
from pydantic import ConfigDict

from angelon.client import models
from angelon.core.problems import Invalid, Problem
from angelon.core.specs.bundle import bundle_of
from angelon.db import bundles
from angelon.engine.operations import bundles as operations
from angelon.web.api.operation import Answer, Refused, operation
from angelon.web.services import actor, live, read_anew, services, session, store_id


class AnyBundle(models.Model):
    """A bundle: see docs/bundle.schema.json."""

    model_config = ConfigDict(extra="allow")


def _current() -> tuple[dict[str, Any], str]:
    """The set-up and its entity tag (RFC 9110, section 8.8.3)."""
    bundle = bundles.export(session(), store_id())
    return bundle.plain(), f'"{operations.tag_of(bundle)}"'


@operation("GET", "/setup", "setup.read", "Read the set-up", AnyBundle)
def read_setup() -> Answer:
    """What is live, as a bundle, without secrets; `ETag` names this state of it."""
    bundle, etag = _current()
    return Answer(AnyBundle.model_validate(bundle), {"ETag": etag})


@operation(
    "PUT",
    "/setup",
    "setup.write",
    "Apply a set-up",
    models.SetupChanged,
    query=models.SetupQuery,
    body=AnyBundle,
    refusals=(412,),
    headers=("If-Match",),
)
def apply_setup(query: models.SetupQuery, body: AnyBundle) -> Answer:
    """Creates or updates everything in a bundle and publishes it, all or nothing; what the bundle does not name stays.
    With `dry_run` it says what would change, and changes nothing. With `If-Match` it is applied only where the set-up
    is still the one that had this `ETag`.
    """
    wanted = request.headers.get("If-Match", "*")
    bundle = bundle_of(body.model_dump())
    own = live().setup.store.key
    if bundle.store.key != own:
        what = f"The bundle is of the store “{bundle.store.key}”, and this token belongs to “{own}”."
        raise Invalid([Problem("store.key", what, f"Write {own}, or take a token of the other store.")])
    only_if = "" if wanted == "*" else wanted.strip('"') or "none"
    try:
        made = operations.apply(services().installation, bundle, actor(), dry_run=query.dry_run, only_if=only_if)
    except operations.Stale:
        told = "The set-up is no more the one that had this ETag. Read it anew."
        raise Refused(412, "Changed meanwhile", told) from None
    read_anew()
    changed = models.SetupChanged(
        dry_run=query.dry_run,
        changes=made.changes,
        differences=made.differences,
        lacking=made.lacking,
        left_off=made.left_off,
        etag=_current()[1],
    )
    return Answer(changed, {"ETag": changed.etag})
