"""Settings from the environment or a `.env` file: one place, every one checked, an unknown one named."""

from __future__ import annotations

import contextlib
import datetime as dt
import ipaddress
import os
import secrets
import tempfile
from pathlib import Path
from typing import Literal

from pydantic import Field, ValidationError, field_validator
from pydantic_settings import BaseSettings, SettingsConfigDict

LISTENS = "_ANGELON_LISTENS"
"""The environment's word for the host that `angelon web` was given: ours, not a setting."""
IPNetwork = ipaddress.IPv4Network | ipaddress.IPv6Network


SECRETS = ("ANGELON_SECRET_SOURCE_", "ANGELON_SECRET_GATEWAY_", "ANGELON_SECRET_LOOK_UP_", "ANGELON_SECRET_FETCH_")
"""How the environment's names for secrets of sources and gateways begin, which `angelon apply` looks at."""


OF_COMMANDS = frozenset({"ANGELON_URL", "ANGELON_TOKEN", "ANGELON_BUNDLE", "ANGELON_STORE", "ANGELON_NEW_SECRET_KEY"})
"""The environment's names for what commands take: no settings of an installation."""


class BadSettings(ValueError):
    """Settings that can't be used; says which, and what to do."""


class Settings(BaseSettings):
    model_config = SettingsConfigDict(env_prefix="ANGELON_", env_file=".env", extra="ignore", env_ignore_empty=True)

    home: Path = Path(".angelon")
    database_url: str = ""
    secret_key: str = Field("", min_length=0)
    handlers: Path | None = None
    handler_variables: str = ""
    """Names of environment variables, parted by commas, that handlers see besides the system's own."""
    handler_network: bool = True
    """Whether handlers may use the network."""
    base_url: str = ""
    senders: int = Field(1, ge=1, le=32)
    """Processes that send, besides the one that plans. One sends as fast as one plans on most machines."""
    trusted_proxies: str = ""
    """Addresses or networks, parted by commas, of proxies whose X-Forwarded-For is believed."""

    returns: str = ""
    """Where mail that can't be delivered is taken: host and port to listen on (SMTP), or the folder of a maildir."""
    inbox: Path | None = None
    """The folder in which each source that takes files from one has its own; `inbox` in the data folder else."""
    exports: str = ""
    """Where orders, customers, sends, documents and parcels are written each night: a folder, or s3://bucket/prefix."""
    exports_as: Literal["csv", "jsonl", "parquet"] = "csv"
    exports_at: dt.time = dt.time(2, 30)
    """From when on, UTC."""
    exports_keep: int = Field(7, ge=1)
    """The folders of how many days are kept there."""
    archive: str = ""
    """Where what was sent is moved after some days: a folder, or s3://bucket/prefix. The same for every process."""
    zone: Path | None = None
    """A zone file (RFC 1035) that is asked in place of DNS when a domain is checked: where there is no network."""
    oidc_issuer: str = ""
    """The address of an identity provider (OpenID Connect) by which people sign in."""
    oidc_client_id: str = ""
    oidc_client_secret: str = ""
    oidc_name: str = "your organisation"
    """What the button on the page calls it."""
    demo: bool = False
    """Whether what is shown is the demo: `angelon demo` sets it."""

    @field_validator("oidc_issuer")
    @classmethod
    def _issuer(cls, address: str) -> str:
        if address and not address.startswith(("http://", "https://")):
            raise ValueError("has to start with http:// or https://")
        return address.rstrip("/")

    @property
    def inbox_at(self) -> Path:
        """Where files are put that sources take."""
        return self.inbox or self.home / "inbox"

    def returns_at(self) -> tuple[str, int] | Path | None:
        """Where mail that comes back is taken: host and port, a folder, or nowhere."""
        host, colon, port = self.returns.rpartition(":")
        if colon and port.isdigit():
            return host or "127.0.0.1", int(port)
        return Path(self.returns) if self.returns else None

    @field_validator("trusted_proxies")
    @classmethod
    def _networks(cls, text: str) -> str:
        for part in filter(None, (piece.strip() for piece in text.split(","))):
            try:
                ipaddress.ip_network(part, strict=False)
            except ValueError:
                raise ValueError(
                    f"has to be addresses or networks parted by commas, and “{part[:60]}” is none"
                ) from None
        return text

    def hosts(self) -> list[str]:
        """Names besides this machine's own that the web process was told to listen under."""
        return [name for name in os.environ.get(LISTENS, "").split(",") if name and name not in ("0.0.0.0", "::")]  # noqa: S104 - told apart, not listened on

    def proxies(self) -> list[IPNetwork]:
        """The networks of proxies that are trusted."""
        return [
            ipaddress.ip_network(part.strip(), strict=False) for part in self.trusted_proxies.split(",") if part.strip()
        ]

    @field_validator("base_url")
    @classmethod
    def _address(cls, address: str) -> str:
        if address and not address.startswith(("http://", "https://")):
            raise ValueError("has to start with http:// or https://")
        return address.rstrip("/")

    @field_validator("secret_key")
    @classmethod
    def _long(cls, key: str) -> str:
        if key and len(key) < 16:
            raise ValueError("has to have at least 16 characters")
        return key

    @property
    def url(self) -> str:
        """The database's address for SQLAlchemy."""
        return self.database_url or f"sqlite:///{self.home.resolve() / 'angelon.db'}"

    def key(self) -> str:
        """The secret key; made and kept in the data folder (readable by its owner only) where none is set."""
        if self.secret_key:
            return self.secret_key
        private_folder(self.home)
        file = self.home / "secret.key"
        if not file.exists():
            handle, name = tempfile.mkstemp(dir=self.home, prefix=".secret-")  # readable by its owner only
            with os.fdopen(handle, "w") as out:
                out.write(secrets.token_urlsafe(32))
            with contextlib.suppress(FileExistsError):
                os.link(name, file)  # whole or not at all, and the first one stays
            os.unlink(name)
        return file.read_text().strip()


def private_folder(folder: Path) -> None:
    """Makes a folder that only its owner can look into, and closes one of ours that stands open. Raises BadSettings."""
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        status = folder.stat()
        if status.st_uid == os.getuid() and status.st_mode & 0o077:
            folder.chmod(0o700)
            for file in folder.iterdir():  # made while it stood open
                if file.is_file() and not file.is_symlink():
                    file.chmod(file.stat().st_mode & 0o700)
    except OSError as error:
        raise BadSettings(
            f"The data folder {folder} can't be used: {error.strerror or error}. Set ANGELON_HOME to a folder that "
            "you may write to."
        ) from None
    if not os.access(folder, os.W_OK):
        raise BadSettings(
            f"The data folder {folder} can't be written to. Set ANGELON_HOME to a folder that you may write to."
        )


def load(**given: object) -> Settings:
    """The settings. Raises BadSettings for one that is malformed or that nobody knows."""
    known = {f"ANGELON_{name.upper()}" for name in Settings.model_fields} | OF_COMMANDS
    unknown = [
        name
        for name in (*os.environ, *_named_in_file())
        if name.startswith("ANGELON_") and name not in known and not name.startswith(SECRETS)
    ]
    if unknown:
        raise BadSettings(f"{unknown[0]} is no setting of Angelon. The settings are {', '.join(sorted(known))}.")
    try:
        return Settings(**given)  # type: ignore[arg-type]
    except ValidationError as error:
        first = error.errors()[0]
        name = f"ANGELON_{str(first['loc'][0]).upper()}"
        said = str(first.get("ctx", {}).get("error") or first["msg"])
        raise BadSettings(f"{name} {said[:1].lower() + said[1:]}.") from None


def _named_in_file() -> list[str]:
    try:
        lines = Path(".env").read_text().splitlines()
    except OSError:
        return []
    return [line.partition("=")[0].strip() for line in lines if "=" in line and not line.lstrip().startswith("#")]
