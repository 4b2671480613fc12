"""How long a server's certificate is still good."""

from __future__ import annotations

import datetime as dt
import smtplib
import socket
import ssl

from cryptography import x509

SECONDS = 10.0


def days_left(host: str, port: int, starttls: bool = False) -> int | None:
    """Whole days until a server's certificate runs out, below 0 where it has; None where it can't be had. Whether it is
    trusted is not asked: who connects to send finds that out.
    """
    context = ssl.create_default_context()
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    try:
        if starttls:
            with smtplib.SMTP(host, port, timeout=SECONDS) as server:
                server.starttls(context=context)
                data = server.sock.getpeercert(binary_form=True)  # type: ignore[union-attr]
        else:
            with (
                socket.create_connection((host, port), SECONDS) as plain,
                context.wrap_socket(plain, server_hostname=host) as secure,
            ):
                data = secure.getpeercert(binary_form=True)
    except (OSError, smtplib.SMTPException, ValueError):
        return None
    if not data:
        return None
    until = x509.load_der_x509_certificate(data).not_valid_after_utc
    return (until - dt.datetime.now(dt.UTC)).days
