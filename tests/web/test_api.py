"""The API: tokens and scopes, every operation by the typed client, its own description, and what goes wrong."""

import datetime as dt
import json

import httpx
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from openapi_spec_validator import OpenAPIV31SpecValidator

from angelon.client import ApiError, Client
from angelon.client.models import SCOPES
from angelon.db.tables import TokenRow
from angelon.engine.operations import tokens
from angelon.engine.unit import unit
from angelon.web.api.description import description
from angelon.web.api.limits import Limits
from angelon.web.api.operation import limits, operations
from tests import made
from tests.web.test_pages import text

EVERYTHING = tuple(SCOPES)


def token_for(bench, *scopes, name="Warehouse", days=0):
    with unit(bench.services.installation, bench.store_id) as work:
        return tokens.create(work, name, scopes or EVERYTHING, days)


@pytest.fixture
def api(client, bench):
    limits._left.clear()
    transport = httpx.WSGITransport(app=client.application)
    with Client("http://127.0.0.1", token_for(bench), transport=transport) as made_:
        yield made_


def ask(client, path, token="", method="GET", **more):
    headers = {"Authorization": f"Bearer {token}"} | more.pop("headers", {})
    return client.open(f"/api/v1{path}", method=method, headers=headers, **more)


def test_a_token_is_shown_once_kept_as_a_digest_and_revoked(client, bench):
    page = client.post("/settings/tokens", data={"name": "ERP", "scope": ["sends.read"], "days": "30"})
    token = next(
        part
        for part in page.get_data(as_text=True).replace("<", " ").replace(">", " ").split()
        if part.startswith("angelon_")
    )
    assert token not in client.get("/settings/tokens").get_data(as_text=True)
    assert token not in json.dumps([list(map(str, row)) for row in bench.rows("SELECT * FROM token")])
    assert token not in json.dumps([list(map(str, row)) for row in bench.rows('SELECT * FROM "change"')])
    assert ask(client, "/sends", token).status_code == 200
    assert "just now" in text(client.get("/settings/tokens"))
    told = text(client.post("/settings/tokens/1/revoke", follow_redirects=True))
    assert "“ERP” is revoked" in told
    refused = ask(client, "/sends", token)
    assert refused.status_code == 401
    assert refused.json["detail"] == "The token is revoked."
    assert 'error="invalid_token"' in refused.headers["WWW-Authenticate"]


@pytest.mark.parametrize(
    ("form", "said"),
    [
        ({"name": "", "scope": "tests"}, "Give the token a name"),
        ({"name": "A", "scope": []}, "may do nothing yet"),
        ({"name": "A", "scope": "everything"}, "There is no scope “everything”."),
        ({"name": "A", "scope": "tests", "days": "soon"}, "“soon” is no number of days."),
        ({"name": "A", "scope": "tests", "days": "99999"}, "1 to 3,660 days"),
        ({"name": "Warehouse", "scope": "tests"}, "There is a token called “Warehouse” already."),
    ],
)
def test_a_token_that_can_t_be_made_says_why_and_keeps_what_was_typed(client, bench, form, said):
    token_for(bench)
    refused = client.post("/settings/tokens", data=form)
    assert refused.status_code == 422
    assert said in text(refused)
    assert f'value="{form["name"]}"' in refused.get_data(as_text=True)


def test_who_has_no_token_or_not_the_scope_gets_nothing(client, bench):
    assert ask(client, "/sends").status_code == 401
    assert ask(client, "/sends", "angelon_nothing").json["detail"] == "The token is unknown."
    assert client.get("/api/v1/sends", headers={"Authorization": "Basic abc"}).status_code == 401
    expired = token_for(bench, name="Old", days=1)
    with bench.database.writing() as session:
        session.get(TokenRow, 1).expires_at = bench.clock.now() - dt.timedelta(days=1)
    assert ask(client, "/sends", expired).json["detail"] == "The token has expired."
    for scope in SCOPES:
        token = token_for(bench, scope, name=scope)
        limits._left.clear()
        for one in operations:
            path = one.path.replace("{id}", "x").replace("{number}", "1").replace("{source}", "shop")
            answer = ask(client, path, token, one.method, json={})
            assert (answer.status_code == 403) is (one.scope != scope), (one.name, scope)


def test_an_event_is_handed_in_once_and_read_with_what_was_decided(api, bench):
    first = api.deliver("shop", made.order(), name="placed", key="k-1")
    assert api.deliver("shop", made.order(), name="placed", key="k-1").event == first.event
    bench.plan()
    event = api.event(first.event)
    assert (event.type, event.source) == ("order.created", "shop")
    assert [(one.route, one.outcome) for one in event.decisions] == [("received", "send")]
    assert event.decisions[0].trace[0].part == "when"
    (send,) = api.sends(state=["scheduled", "held"])
    assert send.order == event.order
    details = api.send(send.id)
    assert details.trace == event.decisions[0].trace
    ((kept,),) = bench.rows("SELECT decisions FROM event WHERE id = ?", first.event)
    assert json.loads(kept) == [{"route": "received", "outcome": "send"}], "why is kept once, with the send"
    assert api.order(send.order).person.email == "joerg@example.org"
    assert [one.id for one in api.orders(words=send.order_number)] == [send.order]
    assert api.act("cancel", [send.id]).moved == 1
    assert api.send(send.id).state == "cancelled"
    assert api.act_on_all("retry", state="cancelled") == 1


@pytest.mark.parametrize(
    ("body", "headers", "status"),
    [
        (b"{", {"Content-Type": "application/json"}, 400),
        (b"", {"Content-Type": "application/json"}, 400),
        (b"<a/>", {"Content-Type": "application/xml"}, 415),
    ],
)
def test_an_event_that_can_t_be_read_is_refused_with_the_reason(client, bench, body, headers, status):
    token = token_for(bench)
    answer = ask(client, "/sources/shop/events", token, "POST", data=body, headers=headers)
    assert answer.status_code == status
    assert answer.mimetype == "application/problem+json"
    assert answer.json["detail"]
    assert ask(client, "/sources/none/events", token, "POST", json={}).status_code == 404


def test_lists_are_read_to_their_end_by_cursor(api, bench):
    for number in range(7):
        api.deliver("shop", made.order(id=number, reference=f"BK-{number}"), name="placed")
    bench.plan()
    assert len({one.id for one in api.sends(limit=2)}) == 7
    assert len({one.id for one in api.orders(limit=3)}) == 7
    assert api.suppress(["a@example.com", "+353209150001", "nobody"], "asked").unknown == ["nobody"]
    found = list(api.suppressions(limit=1))
    assert {one.address for one in found} == {"email:a@example.com", "phone:+353209150001"}
    api.unsuppress(found[0].id)
    with pytest.raises(ApiError, match="404"):
        api.unsuppress(found[0].id)
    with pytest.raises(ApiError, match="The cursor is none that was given out"):
        list(api.sends(cursor="nonsense"))


def test_a_person_is_read_marked_and_what_they_agreed_to_is_kept_as_proof(api, bench):
    api.deliver("shop", made.order(), name="placed")
    bench.plan()
    (person,) = api.people(words="joerg")
    assert (person.name, person.email) == ("Jörg", "joerg@example.org")
    assert api.set_tag(person.id, "collects").tags == ["collects"]
    assert api.set_tag(person.id, "collects", on=False).tags == []
    with pytest.raises(ApiError, match="is no tag"):
        api.set_tag(person.id, "<b>")
    with pytest.raises(ApiError, match="404"):
        api.set_tag(99, "collects")
    api.note_consent("joerg@example.org", "email", True, "the counter", "Write to me about new kites")
    api.note_consent("joerg@example.org", "email", False, "a call")
    with pytest.raises(ApiError, match="is no phone number"):
        api.note_consent("joerg@example.org", "sms", True, "the counter")
    found = api.person(person.id)
    assert [(one.granted, one.where, one.words) for one in found.consents] == [
        (False, "a call", ""),
        (True, "the counter", "Write to me about new kites"),
    ]
    assert [order.number for order in found.orders] == ["BK-7"]
    with pytest.raises(ApiError, match="404"):
        api.person(99)


def test_an_event_is_rehearsed_and_nothing_is_kept(api, bench):
    found = api.rehearse("shop", made.order(), name="placed", route="received")
    (decision,) = found.decisions
    assert decision.outcome == "send"
    assert "Danke, Jörg" in decision.sends[0].text
    assert bench.rows("SELECT count(*) FROM event") == [(0,)]
    with pytest.raises(ApiError, match="no live route “none”"):
        api.rehearse("shop", made.order(), route="none")
    assert api.check().passed is True


def test_the_set_up_is_tried_applied_and_guarded_by_its_etag(api, bench):
    before = api.setup()
    changed = json.loads(json.dumps(before.bundle))
    changed["messages"][0]["name"] = "Received, with thanks"
    tried = api.apply(changed, dry_run=True)
    assert tried.changes == ["message received: changed name"]
    assert tried.etag == before.etag == api.setup().etag
    with pytest.raises(ApiError, match="412"):
        api.apply(changed, etag='"other"')
    done = api.apply(changed, etag=before.etag)
    assert (done.changes, done.dry_run) == (["message received: changed name"], False)
    assert done.etag == api.setup().etag != before.etag
    assert bench.rows("""SELECT actor FROM "change" WHERE kind = 'message'""") == [("token Warehouse",)]
    with pytest.raises(ApiError) as refused:
        api.apply({**changed, "store": {**changed["store"], "key": "another"}})
    assert refused.value.problem.problems[0].where == "store.key"
    with pytest.raises(ApiError) as refused:
        api.apply({**changed, "routes": [{"key": "x", "name": "x", "when": ["nonsense"]}]})
    assert refused.value.status == 422
    assert "no event type" in refused.value.problem.detail


def test_who_asks_too_often_waits_and_is_told_how_long(client, bench):
    limits._left.clear()
    token, now = token_for(bench), bench.clock.now()
    bench.clock.now = lambda: now  # however long the machine takes for them
    answers = [ask(client, "/sends", token) for _ in range(130)]
    assert answers[0].headers["RateLimit-Policy"] == '"default";q=100;w=5'
    refused = [one for one in answers if one.status_code == 429]
    assert refused
    assert int(refused[0].headers["Retry-After"]) >= 1
    assert refused[0].json["title"] == "Too many requests"
    limits._left.clear()


@given(st.lists(st.floats(0, 10), min_size=1, max_size=200), st.integers(1, 20), st.integers(1, 30))
def test_a_bucket_is_never_above_its_rate_over_any_window(waits, rate, burst):
    bucket, at, taken = Limits(rate, burst), dt.datetime(2026, 1, 1, tzinfo=dt.UTC), []
    for wait in waits:
        at += dt.timedelta(seconds=wait / rate)
        if "Retry-After" not in bucket.spend(1, at):
            taken.append(at)
    for number, begin in enumerate(taken):
        for more, end in enumerate(taken[number:], 1):
            assert more <= burst + rate * (end - begin).total_seconds() + 1e-6


def test_the_description_is_valid_and_whole(client):
    told = client.get("/api/v1/openapi.json").json
    OpenAPIV31SpecValidator(told).validate()
    described = {(path, method.upper()) for path, methods in told["paths"].items() for method in methods}
    served = {
        (rule.rule.removeprefix("/api/v1").replace("<int:number>", "{id}").replace("<", "{").replace(">", "}"), method)
        for rule in client.application.url_map.iter_rules()
        if rule.endpoint.startswith("api.")
        for method in rule.methods - {"HEAD", "OPTIONS"}
    }
    assert described == served
    page = text(client.get("/api"))
    for one in operations:
        assert one.summary in page


TEXTS = st.sampled_from(["", "x", "1", "-1", "99999999999999999999", "null", "é\u202e", "a,b", "%00", "2026-13-01"])
JUNK = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text(max_size=20),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=8), inner, max_size=4),
    max_leaves=12,
)


@settings(max_examples=20, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(data=st.data())
def test_whatever_is_asked_the_answer_is_one_that_is_described(client, bench, data):
    limits._left.clear()
    token = bench.__dict__.get("_token") or bench.__dict__.setdefault("_token", token_for(bench))
    for one in operations:
        path = one.path
        for part in ("{id}", "{source}"):
            path = path.replace(part, data.draw(st.sampled_from(["x", "shop", "..", "%2e%2e", "é"])))
        path = path.replace("{number}", str(data.draw(st.sampled_from([0, 1, 2**63, 10**30]))))
        names = list(one.query.model_fields) if one.query else ["name"]
        query = {name: data.draw(TEXTS) for name in data.draw(st.lists(st.sampled_from(names), max_size=3))}
        body = data.draw(JUNK)
        if one.body is not None and data.draw(st.booleans()):
            body = {name: data.draw(JUNK) for name in one.body.model_fields}
        answer = ask(client, path, token, one.method, query_string=query, json=body)
        assert answer.status_code < 500, (one.name, query, body, answer.get_data(as_text=True))
        allowed = description()["paths"][one.path.replace("{number}", "{id}")][one.method.lower()]["responses"]
        assert str(answer.status_code) in allowed, (one.name, answer.status_code, answer.get_data(as_text=True))


def test_one_route_is_made_changed_and_switched_by_itself(api, bench):
    spec = {"name": "Thanks", "when": ["order.created"], "sources": ["shop"], "send": "received", "gateway": "mailroom"}
    tried = api.put("routes", "thanks", spec, dry_run=True)
    assert "route thanks: new" in tried.changes
    with pytest.raises(ApiError):
        api.part("routes", "thanks")
    assert "route thanks: new" in api.put("routes", "thanks", spec).changes
    made_ = api.part("routes", "thanks")
    assert (made_.spec["name"], made_.spec["on"]) == ("Thanks", False)
    assert api.put("routes", "thanks", made_.spec | {"on": True}, etag=made_.etag).changes == [
        "route thanks: switched on"
    ]
    assert api.put("routes", "thanks", spec | {"name": "Thank you"}).changes == ["route thanks: changed name"]
    assert api.part("routes", "thanks").spec["on"], "it stays on"
    with pytest.raises(ApiError) as stale:
        api.put("routes", "thanks", spec, etag=made_.etag)
    assert stale.value.status == 412
    with pytest.raises(ApiError) as wrong:
        api.put("routes", "thanks", spec | {"gateway": "nowhere"})
    assert "no gateway has that key" in str(wrong.value)
    with pytest.raises(ApiError) as nothing:
        api.part("colours", "red")
    assert nothing.value.status == 404


def test_a_part_of_a_set_up_is_applied_to_the_rest(api):
    before = api.setup().bundle
    done = api.apply({"messages": [{"key": "short", "name": "Short", "sms": {"en": {"text": "hi"}}}]})
    assert done.changes == ["message short: new"]
    after = api.setup().bundle
    assert len(after["messages"]) == len(before["messages"]) + 1
    assert {**after, "messages": 0} == {**before, "messages": 0}
    assert api.apply({"store": {"name": "Kites and more"}}).changes == ["store kites: changed name"]


def test_of_many_who_write_one_part_with_its_etag_one_wins(api, client, bench):
    from concurrent.futures import ThreadPoolExecutor

    etag, token = api.part("gateways", "mailroom").etag, token_for(bench, name="Racers")
    spec = api.part("gateways", "mailroom").spec

    def write(number):
        body = spec | {"name": f"Room {number}"}
        one = bench_client(client)
        return ask(one, "/setup/gateways/mailroom", token, "PUT", json=body, headers={"If-Match": etag}).status_code

    with ThreadPoolExecutor(6) as pool:
        assert sorted(pool.map(write, range(6))) == [200, *[412] * 5]


def bench_client(client):
    return client.application.test_client()
