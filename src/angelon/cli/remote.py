"""An Angelon that runs elsewhere, which commands work on by its API."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from angelon.client import Client


def is_remote() -> bool:
    """Whether the command was given an address (--url, ANGELON_URL)."""
    return bool(_given().get("url"))


@contextmanager
def client() -> Iterator[Client]:
    """The client of the address; what the server refuses ends the command with its problems."""
    import httpx

    from angelon.client import ApiError, Client

    given = _given()
    if not given.get("token"):
        raise click.ClickException(
            "Give a token, too: --token, or ANGELON_TOKEN. They are made under Settings, Tokens."
        )
    try:
        with Client(given["url"], given["token"]) as made:
            yield made
    except ApiError as error:
        lines = [f"  {one.where and one.where + ': '}{one.what} {one.hint}".rstrip() for one in error.problem.problems]
        raise click.ClickException("\n".join([f"{error.status} {error.problem.detail}", *lines[:40]])) from None
    except httpx.HTTPError as error:
        raise click.ClickException(f"Nobody answers at {given['url']}: {error}") from None


def _given() -> dict[str, Any]:
    context = click.get_current_context(silent=True)
    root = context.find_root() if context is not None else None
    return (root.obj or {}) if root is not None else {}
