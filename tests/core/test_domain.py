"""A domain's records: what is right is left, what is wrong is said in one sentence with what should stand there."""

import dns.exception
import pytest

from angelon.core.sending.domain import Records, check
from angelon.gateways import dns as resolving

HOST = "mail.kites.example"
KEY = "v=DKIM1; k=rsa; p=MIIBIjANBg"
GOOD = {
    "domain": "kites.example",
    "txt": ["v=spf1 a:mail.kites.example ~all", "other=1"],
    "dmarc": ["v=DMARC1; p=quarantine"],
    "mx": ["mail.kites.example."],
    "dkim": {"angelon1": ["v=DKIM1; k=rsa; p=MIIBIjANBg"]},
    "host_addresses": ["192.0.2.7"],
    "reverse": {"192.0.2.7": ["mail.kites.example."]},
}


def found(dkim=None, back="", **changes):
    told = check(Records(**(GOOD | changes)), HOST, {"angelon1": KEY} if dkim is None else dkim, back)
    return {one.name: one for one in told}


def test_a_resolver_that_says_nothing_is_asked_for_so_long_in_all(monkeypatch):
    waited = []

    class Mute:
        lifetime = 0.0

        def resolve(self, name, kind):
            waited.append(self.lifetime)
            clock[0] += self.lifetime
            raise dns.exception.Timeout

    clock = [100.0]
    monkeypatch.setattr(resolving.time, "monotonic", lambda: clock[0])
    monkeypatch.setattr(resolving.dns.resolver, "Resolver", Mute)
    records = resolving.records_of(resolving.Resolver(), "kites.example", HOST, ["a", "b", "c", "d", "e"])
    assert sum(waited) == resolving.IN_ALL
    assert len(records.failed) == 10


def test_a_domain_in_order_is_in_order():
    assert {name: one.state for name, one in found().items()} == {
        "MX": "good",
        "SPF": "good",
        "DKIM": "good",
        "DMARC": "good",
        "Reverse name": "good",
    }


@pytest.mark.parametrize(
    ("txt", "state", "said", "should"),
    [
        ([], "bad", "no SPF record", "v=spf1 a:mail.kites.example ~all"),
        (["v=spf1 ~all", "v=spf1 -all"], "bad", "several", "v=spf1 ~all"),
        (["v=spf1 +all"], "bad", "everybody", "v=spf1 ~all"),
        (["v=spf1 a:mail.kites.example"], "wait", "end it with ~all", "v=spf1 a:mail.kites.example ~all"),
        (
            ["v=spf1 ip4:203.0.113.0/24 -all"],
            "wait",
            "does not name",
            "v=spf1 ip4:203.0.113.0/24 a:mail.kites.example -all",
        ),
        (["v=spf1 ip4:192.0.2.0/24 -all"], "good", "may send", ""),
        (["v=spf1 mx -all"], "good", "may send", ""),
        (["v=spf1 " + " ".join(f"include:a{n}.example" for n in range(11)) + " ~all"], "bad", "11 look-ups", ""),
    ],
)
def test_spf(txt, state, said, should):
    one = found(txt=txt)["SPF"]
    assert one.state == state
    assert said in one.said
    assert one.should_be == should


def test_an_include_that_names_the_server_counts():
    one = found(
        txt=["v=spf1 include:_spf.provider.example -all"],
        included={"_spf.provider.example": ["v=spf1 ip4:192.0.2.0/28 -all"]},
    )
    assert one["SPF"].state == "good"


def test_dkim_dmarc_mx_and_the_reverse_name():
    assert "is not in DNS yet" in found(dkim={"angelon2": KEY})["DKIM"].said
    other = check(Records(**(GOOD | {"dkim": {"angelon1": ["v=DKIM1; p=XYZ"]}})), HOST, {"angelon1": KEY})
    assert next(one for one in other if one.name == "DKIM").said.startswith("DNS has another key")
    assert found(dkim={})["DKIM"].state == "wait"
    assert found(dmarc=[])["DMARC"].should_be.startswith("v=DMARC1; p=none")
    assert found(dmarc=["v=DMARC1"])["DMARC"].state == "bad"
    assert "only watches" in found(dmarc=["v=DMARC1; p=none"])["DMARC"].said
    assert found(dkim={}, back="provider.example")["DMARC"].state == "bad"
    assert found(dkim={}, back="mail.kites.example")["DMARC"].state == "good", "relaxed alignment"
    assert found(mx=[])["MX"].state == "bad"
    assert "null MX" in found(mx=["."])["MX"].said
    assert "no reverse name" in found(reverse={})["Reverse name"].said
    own = found(host_addresses=["192.168.4.2"], reverse={})["Reverse name"]
    assert own.state == "wait"
    inside = found(host_addresses=["10.0.0.2"], txt=["v=spf1 ip4:203.0.113.4 -all"])["SPF"]
    assert (inside.state, inside.should_be) == ("wait", "")
    assert "inside your own network" in own.said
    assert "Could not be asked" in found(failed=["kites.example TXT"])["DNS"].said


def test_a_server_that_is_named_by_its_address_is_suggested_as_one():
    told = {one.name: one for one in check(Records(**(GOOD | {"txt": [], "reverse": {}})), "192.0.2.7")}
    assert told["SPF"].should_be == "v=spf1 ip4:192.0.2.7 ~all"
    assert told["Reverse name"].should_be == "mail.kites.example."
