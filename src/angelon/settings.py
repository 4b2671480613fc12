"""Settings from the environment or a `.env` file: one place, every one checked, an unknown one named."""

from __future__ import annotations

import os
import secrets
from pathlib import Path

from pydantic import Field, ValidationError, field_validator
from pydantic_settings import BaseSettings, SettingsConfigDict


class BadSettings(ValueError):
    """Settings that can't be used; says which, and what to do."""


class Settings(BaseSettings):
    model_config = SettingsConfigDict(env_prefix="ANGELON_", env_file=".env", extra="ignore", env_ignore_empty=True)

    home: Path = Path(".angelon")
    database_url: str = ""
    secret_key: str = Field("", min_length=0)
    handlers: Path | None = None
    base_url: str = ""

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
        self.home.mkdir(parents=True, exist_ok=True)
        file = self.home / "secret.key"
        try:
            handle = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        except FileExistsError:
            return file.read_text().strip()
        with os.fdopen(handle, "w") as out:
            made = secrets.token_urlsafe(32)
            out.write(made)
        return made


def load(**given: object) -> Settings:
    """The settings. Raises BadSettings for one that is malformed or that nobody knows."""
    known = {f"ANGELON_{name.upper()}" for name in Settings.model_fields}
    unknown = [name for name in (*os.environ, *_named_in_file()) if name.startswith("ANGELON_") and name not in known]
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
