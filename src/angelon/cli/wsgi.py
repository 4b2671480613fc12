"""The application as the web server loads it, in each of its processes."""

from __future__ import annotations

from typing import Any

from angelon import settings
from angelon.standins.box import Box
from angelon.standins.views import pages as standins
from angelon.web import services
from angelon.web.app import create_app


def application() -> Any:
    made = services.make(settings.load())
    app = create_app(made, [standins])
    app.extensions["angelon.standins"] = Box(made.settings.home)
    return app
