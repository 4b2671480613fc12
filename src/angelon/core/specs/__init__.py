"""The one description of each thing a developer sets up: stored, bundled, spoken by the API and edited by the page."""

from angelon.core.specs.bundle import Bundle
from angelon.core.specs.gateway import Gateway
from angelon.core.specs.message import Message
from angelon.core.specs.route import Route
from angelon.core.specs.source import Source
from angelon.core.specs.store import Store
from angelon.core.specs.variable import Recipe, Step, Variable

__all__ = ["Bundle", "Gateway", "Message", "Recipe", "Route", "Source", "Step", "Store", "Variable"]
