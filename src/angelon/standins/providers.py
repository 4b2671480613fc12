"""The SMS provider, the chat provider and the store's own API: HTTP APIs on a port of their own, with faults on demand.

They know nothing of Angelon: what they take is what their API says, and a gateway's settings describe that API.
"""

from __future__ import annotations

import threading
from typing import Any

from flask import Flask
from werkzeug.serving import BaseWSGIServer, WSGIRequestHandler, make_server

from angelon.standins import account, chat, identity, sms, stall, system, tax_office
from angelon.standins.box import Box


def create_api(box: Box) -> Flask:
    """All of them as one application."""
    app = Flask("standin-providers")
    app.extensions[account.BOX] = box
    app.register_error_handler(account.Refused, account.refused)
    app.register_blueprint(sms.api)
    app.register_blueprint(chat.api)
    app.register_blueprint(system.api)
    app.register_blueprint(identity.api)
    app.register_blueprint(stall.api)
    app.register_blueprint(tax_office.api)
    return app


class _Quiet(WSGIRequestHandler):
    def log_request(self, *_: Any) -> None: ...


class Providers:
    """The server, on a thread of its own. `port` 0 has a free one chosen."""

    def __init__(self, box: Box, host: str = "127.0.0.1", port: int = 0) -> None:
        self._server: BaseWSGIServer = make_server(host, port, create_api(box), threaded=True, request_handler=_Quiet)
        self.port = self._server.port
        self._thread = threading.Thread(target=self._server.serve_forever, name="providers", daemon=True)

    def start(self) -> None:
        self._thread.start()

    def stop(self) -> None:
        self._server.shutdown()
        self._thread.join(5)
        self._server.server_close()
