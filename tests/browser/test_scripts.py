"""The scripts' own rules, in the browser that runs them: chips of a text, one save at a time, the last of calls."""

import itertools
import re

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

PIECES = ["Hello ", "{{ name }}", "{{ total|money }}", "{% if paid %}", "{% elif late %}", "{% else %}", "{% endif %}",
          "{% for line in order.lines %}", "{% endfor %}", "{ not one }", "{{", "%}", "ü 🪁 ", "\n"]  # fmt: skip
TEXTS = st.lists(st.sampled_from(PIECES), max_size=12).map("".join)


@pytest.fixture(scope="module")
def script(looked_at, running):
    """Runs a function's body with a module of ours as `it`, on a page of the application with nothing to type."""
    looked_at.goto("/guide/connect")

    def run(module, body, given=None):
        source = f"async ([path, given]) => {{ const it = await import(path); {body} }}"
        return looked_at.evaluate(source, [f"/static/js/{module}.js", given])

    return run


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(TEXTS)
def test_chips_are_the_parts_of_a_text_and_pairs_are_nested(script, text):
    parts = script("message/chips", "return it.partsOf(given)", text)
    as_js = text.encode("utf-16-le")
    assert [as_js[2 * one["from"] : 2 * one["to"]].decode("utf-16-le") for one in parts] == [
        one["source"] for one in parts
    ]
    assert [one["source"] for one in parts] == re.findall(r"\{\{[^{}]*\}\}|\{%[^{}%]*%\}", text)
    pairs = script(
        "message/chips", "return [...it.pairsOf(given)].map(([at, of]) => [at, of.map((p) => p.from)])", parts
    )
    spans = {tuple(of) for _, of in pairs}
    for at, of in pairs:
        assert at in of
        assert of == sorted(of)
    for one in spans:
        for other in spans - {one}:
            apart = one[-1] < other[0] or other[-1] < one[0]
            within = any(a < other[0] and other[-1] < b for a, b in itertools.pairwise(one))
            around = any(a < one[0] and one[-1] < b for a, b in itertools.pairwise(other))
            assert apart or within or around, (one, other)


@pytest.mark.parametrize(
    ("text", "words", "names"),
    [
        ("{{ customer_name }}", "customer_name", ["customer_name"]),
        ("{{ total | money('long') }}", "total · money long", ["total"]),
        ("{{ }}", "?", []),
        ("{% if paid %}", "if paid is there", ["paid"]),
        ('{% elif country == "DE" and not paid %}', 'else if country == "DE" and not paid', ["country", "paid"]),
        ("{%- for line in order.lines -%}", "for each line of order.lines", ["order"]),
        ("{% endfor %}", "end of each", []),
        ("{% else %}", "else", []),
    ],
)
def test_what_a_chip_says_and_which_variables_it_names(script, text, words, names):
    body = "const [part] = it.partsOf(given); return [it.wordsOf(part), it.namesOf(part)]"
    assert script("message/chips", body, text) == [words, names]


SAVING = """
    const asked = [], states = [], shown = [];
    const answers = given.answers.map((one) => ({ ...one }));
    const real = window.fetch;
    window.fetch = async (address, { body }) => {
      asked.push(JSON.parse(body));
      await new Promise((done) => setTimeout(done, 60));
      const told = answers.shift() ?? { saved: true, known: 99 };
      if (told.gone) throw new TypeError("no network");
      return new Response(JSON.stringify(told), { headers: { "Content-Type": "application/json" } });
    };
    let text = "a";
    const draft = it.saving({ address: "/x", state: () => ({ spec: text }), given: { known: 1 },
      shown: (told) => shown.push(told.known), saved: (how) => states.push(how) });
    const wait = (ms) => new Promise((done) => setTimeout(done, ms));
    const banner = () => document.querySelector(".loud");
    try {
      %s
    } finally {
      window.fetch = real;
      banner()?.remove();
    }
"""


def test_what_is_changed_during_a_save_is_saved_after_it_and_with_what_that_told(script):
    body = (
        SAVING
        % """
      draft.changed(); await wait(190); text = "b"; draft.now(); text = "c"; await draft.now(); await wait(150);
      return [asked, states, draft.pending];
    """
    )
    asked, states, pending = script("message/saving", body, {"answers": [{"saved": True, "known": 2}]})
    assert [(one["spec"], one["known"]) for one in asked] == [("a", 1), ("c", 2)], "never two at a time, none left out"
    assert states[-1] == "kept"
    assert not pending


def test_a_save_that_fails_says_so_is_tried_again_and_loses_nothing(script):
    body = (
        SAVING
        % """
      draft.changed(); await wait(300); const said = banner().textContent, how = states.at(-1);
      banner().querySelector("button").click(); await wait(150);
      return [said, how, banner() === null, asked.map((one) => one.spec), states.at(-1)];
    """
    )
    said, how, gone, specs, last = script("message/saving", body, {"answers": [{"gone": True}]})
    assert said.startswith("Not saved. The server can't be reached.")
    assert "What you wrote is still on this page." in said
    assert (how, gone, specs, last) == ("failed", True, ["a", "a"], "kept")


def test_where_somebody_else_saved_one_chooses(script):
    told = {"saved": False, "elsewhere": True, "problems": [{"what": "Changed meanwhile.", "hint": "Choose."}]}
    body = (
        SAVING
        % """
      draft.changed(); await wait(300); const buttons = [...banner().querySelectorAll("button")];
      const words = buttons.map((one) => one.textContent); buttons[1].click(); await wait(150);
      return [words, asked.map((one) => one.force), banner() === null];
    """
    )
    words, forced, gone = script("message/saving", body, {"answers": [told]})
    assert (words, forced, gone) == (["Load that one", "Keep mine"], [False, True], True)


def test_of_many_calls_the_last_counts_and_one_under_way_is_ended(script):
    body = """
      const begun = [], ended = [];
      const run = it.settled(async (signal, value) => {
        begun.push(value);
        await new Promise((done, no) => { setTimeout(done, 80); signal.addEventListener("abort", () =>
          no(new DOMException("", "AbortError"))); });
        ended.push(value);
      }, 20);
      for (const value of [1, 2, 3]) run(value);
      await new Promise((done) => setTimeout(done, 50));
      run(4);
      await new Promise((done) => setTimeout(done, 200));
      return [begun, ended];
    """
    assert script("request", body) == [[3, 4], [4]]


@pytest.mark.parametrize(
    ("answer", "said"),
    [
        ("new Response('{\"detail\": \"It is full.\"}', {status: 507, headers: {'Content-Type': 'application/json'}})",
         "It is full."),
        ("new Response('<p>', {status: 500})", "The server answered 500. Reload the page and try again."),
    ],
)  # fmt: skip
def test_a_refusal_is_an_error_with_the_server_s_words(script, answer, said):
    body = f"""
      const real = window.fetch;
      window.fetch = async () => {answer};
      try {{ await it.post("/x", {{}}); }} catch (error) {{ return error.message; }} finally {{ window.fetch = real; }}
    """
    assert script("request", body) == said
