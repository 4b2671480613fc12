"""The pages of handlers: what is registered, its calls, a rehearsal with values beside the lines, the switch."""

import dataclasses
import datetime as dt

import pytest

from angelon.engine.asking.inquirer import Inquirer
from angelon.engine.handlers.runner import HandlerRunner, Handlers
from tests import made
from tests.engine.test_handlers import GOOD, write
from tests.web.test_pages import text


@pytest.fixture
def folder(tmp_path, bench, client):
    made_ = tmp_path / "own"
    made_.mkdir()
    write(made_, GOOD)
    settings = bench.settings.model_copy(update={"handlers": made_})
    serving = dataclasses.replace(bench.services, settings=settings, handlers=Handlers(made_))
    client.application.extensions["angelon"] = serving
    yield made_
    serving.handlers.end()


@pytest.fixture
def runner(bench, folder):
    found = HandlerRunner(bench.database, bench.clock, folder)
    assert found.look()
    bench.services.setups.forget()
    yield found
    found.handlers.end()


def test_without_a_folder_the_page_says_how_to_begin(client):
    page = text(client.get("/handlers"))
    assert "No folder is set" in page
    assert "ANGELON_HANDLERS" in page
    assert client.get("/handlers/none").status_code == 404


def test_a_new_handler_is_off_and_is_called_once_it_is_switched_on(client, bench, runner):
    page = text(client.get("/handlers"))
    assert "thanks" in page
    assert "shop.py, line 4" in page
    assert "Thanks who orders much." in page
    bench.deliver(made.body())
    assert bench.plan() == 1  # nobody waits for it while it is off
    told = text(client.post("/handlers/thanks/switch", data={"on": "yes", "back": "list"}, follow_redirects=True))
    assert "It is on: it is called for every event" in told
    later = bench.clock.now() + dt.timedelta(seconds=1)
    bench.clock.now = lambda: later
    bench.deliver(made.body(id=2, reference="BK-2"))
    assert bench.plan() == 1  # nothing else waits for it
    Inquirer(bench.database, bench.services.setups, bench.clock, "t", runner).run_due()
    bench.plan()
    page = text(client.get("/handlers/thanks"))
    assert "1 call in 30 days" in page
    assert "1 send asked for" in page
    assert "seen BK-" in page
    assert "It is off" in text(client.post("/handlers/thanks/switch", data={"on": "no"}, follow_redirects=True))
    assert client.get("/routes/handler-thanks").headers["Location"] == "/handlers/thanks"
    assert "handler-thanks" not in client.get("/routes").get_data(as_text=True)


def test_a_rehearsal_shows_values_beside_lines_and_what_would_be_sent(client, bench, runner):
    bench.deliver(made.body())
    bench.plan()
    page = text(client.post("/handlers/thanks/rehearse"))
    assert "order.total = 135.50 EUR" in page
    assert "outbox.send(" in page
    assert "scheduled" in page
    assert "Printed output" in page
    assert bench.rows("SELECT count(*) FROM inquiry") == [(0,)]
    assert bench.rows("SELECT count(*) FROM send") == [(1,)]


def test_a_handler_that_fails_in_a_rehearsal_shows_its_line(client, bench, runner, folder, monkeypatch):
    monkeypatch.setattr("angelon.engine.handlers.runner.LOOK_EVERY", 0)
    bench.deliver(made.body())
    bench.plan()
    write(folder, GOOD.replace("outbox.derive", "nothing.derive"))
    page = text(client.post("/handlers/thanks/rehearse"))
    assert "It failed" in page
    assert 'File "shop.py", line 11, in thanks' in page
    assert "NameError" in page


def test_a_file_that_can_t_be_loaded_is_shown_with_its_traceback(client, bench, runner, folder, monkeypatch):
    monkeypatch.setattr("angelon.engine.handlers.runner.LOOK_EVERY", 0)
    write(folder, "1 / 0", "broken.py")
    assert runner.look()
    page = text(client.get("/handlers"))
    assert "broken.py could not be loaded" in page
    assert "ZeroDivisionError" in page
    assert "thanks" in page
