"""A message as the reader of the event in hand would get it, from the text as it stands."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from typing import Any

from angelon.core.messages.templates import CantRender
from angelon.core.planning.plan import compiled_part, customer, values_for
from angelon.core.problems import Invalid, Problem
from angelon.core.specs import Message
from angelon.core.values import show
from angelon.db.setup import LiveSetup
from angelon.web.hand import Hand


@dataclass
class Preview:
    """What the preview shows. `html` is empty where it can't be made; `problems` say why."""

    subject: str = ""
    html: str = ""
    text: str = ""
    to: str = ""
    locale: str = ""
    bytes: int = 0
    problems: list[Problem] = field(default_factory=list)

    def as_dict(self) -> dict[str, Any]:
        return {**asdict(self), "problems": [p.as_dict() for p in self.problems]}


def preview(message: Message, channel: str, locale: str, live: LiveSetup, hand: Hand) -> Preview:
    """Renders one variant. A variable without a value is shown by its name in ⟨ ⟩, and is among the problems."""
    made = Preview(locale=locale)
    try:
        compiled = compiled_part(message, channel, locale, live.setup.store)
    except Invalid as error:
        made.problems = error.problems
        return made
    unknown = sorted(compiled.names - set(live.setup.variables) - {"order"})
    made.problems += [_unknown(name, live) for name in unknown]
    values: dict[str, Any] = {}
    if hand.reading is not None and hand.variables is not None:
        values, missing = values_for(compiled.names - set(unknown), hand.reading, hand.variables)
        source = hand.source.name if hand.source else "the source"
        made.problems += [Problem(f"{channel}.{locale}", f"{p.what}", f"With this event the send would be held. {p.mend}", "warning") for p in missing]
        for problem in missing:
            name = problem.where.rpartition(".")[2]
            values[name] = f"⟨{name}⟩"
        del source
        made.to = show(hand.reading.value("name")) + " <" + customer(channel, hand.reading)[0] + ">"
    else:
        values = {name: _sample(name, live) for name in compiled.names if name != "order"}
        values["order"] = {"lines": [], "total": None, "number": "⟨number⟩"}
    for name in compiled.names:
        if values.get(name) is None and (name in unknown or hand.reading is None):
            values[name] = f"⟨{name}⟩"
    try:
        mail = compiled.render(values)
    except CantRender as error:
        made.problems.append(error.problem.at(f"{channel}.{locale}"))
        return made
    made.subject, made.html, made.text = mail.subject, mail.html, mail.text
    made.bytes = len(mail.html.encode())
    return made


def _unknown(name: str, live: LiveSetup) -> Problem:
    from rapidfuzz import process

    close = process.extractOne(name, list(live.setup.variables), score_cutoff=55)
    return Problem("", f"There is no variable “{name}”.", f"Did you mean {close[0]}?" if close else "Choose one from the list, or make it on a source’s page.")


def _sample(name: str, live: LiveSetup) -> Any:
    variable = live.setup.variables.get(name)
    return variable.sample if variable and variable.sample is not None else f"⟨{name}⟩"


def checks(message: Message, live: LiveSetup) -> list[Problem]:
    """What would go wrong with a message, whatever the event: errors keep it from being published, warnings don't."""
    found: list[Problem] = []
    if not message.email:
        found.append(Problem("email", "The message says nothing yet.", "Write an email."))
    for locale, text in message.email.items():
        where = f"email.{locale}"
        if not text.subject.strip():
            found.append(Problem(where, "The subject is empty.", "Write one."))
        if not text.blocks and not text.html:
            found.append(Problem(where, "The mail has no text.", "Add a block."))
        try:
            compiled = compiled_part(message, "email", locale, live.setup.store)
        except Invalid as error:
            found += error.problems
            continue
        found += [_unknown(name, live).at(where) for name in sorted(compiled.names - set(live.setup.variables) - {"order"})]
        for source in live.setup.sources.values():
            lacking = sorted(
                name for name in compiled.names if name in live.setup.variables and live.setup.variables[name].required and name not in source.recipes
            )
            used = any(active.route.send == message.key and source.key in active.route.sources for active in live.setup.routes)
            if lacking and used:
                found.append(Problem(where, f"{source.name} has no recipe for {', '.join(lacking)}: its sends would be held.", "Map it on the source’s page.", "warning"))
    return found
