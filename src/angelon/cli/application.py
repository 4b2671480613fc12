"""The application as the web server loads it, in its process."""

from __future__ import annotations

import threading

from angelon import settings
from angelon.cli.parents import SERVER, end_with_starter
from angelon.engine.followers.alerts import Alarm
from angelon.standins.box import Box
from angelon.standins.views import pages as standins
from angelon.web import services
from angelon.web.app import create_app
from angelon.web.origins import Proxies
from angelon.web.server import RsgiServer


def application() -> RsgiServer:
    end_with_starter(SERVER)
    made = services.make(settings.load())
    app = create_app(made, [standins])
    app.extensions["angelon.standins"] = Box(made.settings.home)
    alarm = Alarm(made.installation, made.settings.home, made.settings.base_url)
    threading.Thread(target=alarm.run, args=(threading.Event(),), name="alerts", daemon=True).start()
    return RsgiServer(
        app, made.intake, made.writer, Proxies(made.settings.proxies()), app.extensions["angelon.guesses"]
    )
