"""What stands in no log: contact details and credentials."""

import io
import json

import pytest
import structlog

from angelon.core.masking import mask_line


@pytest.mark.parametrize(
    ("said", "kept"),
    [
        ("refused: joerg@example.org is unknown", "refused: j…@… is unknown"),
        ("to +353 20 915 1299 at once", "to +…99 at once"),
        ("Authorization: Bearer abcdefgh12345", "Authorization: Bearer …"),
        ("token angelon_Zk3aQ1-x_99 revoked", "token angelon_… revoked"),
        ('to "odd name"@example.org now', "to …@… now"),
        ("to user@[192.0.2.7] now", "to u…@… now"),
        ("to a!b#c@example.org now", "to a…@… now"),
        ("to jörg+x@bücher.example now", "to j…@… now"),
        ("to amp&amp;sand/x=y@example.org now", "to a…@… now"),
        ("send sd-01kx of route order-received", "send sd-01kx of route order-received"),
    ],
)
def test_a_line_keeps_its_sense_without_who_it_is_about(said, kept):
    assert mask_line(None, "info", {"event": said, "send": "sd-01kx"}) == {"event": kept, "send": "sd-01kx"}


def test_a_traceback_is_masked_as_well():
    out = io.StringIO()
    log = structlog.wrap_logger(
        structlog.PrintLogger(out),
        processors=[structlog.processors.format_exc_info, mask_line, structlog.processors.JSONRenderer()],
    )
    try:
        raise ValueError("nobody is called mia@example.com here")
    except ValueError:
        log.error("it failed", exc_info=True)
    told = json.loads(out.getvalue())
    assert "mia@" not in told["exception"]
    assert "m…@…" in told["exception"]
