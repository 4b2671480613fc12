"""What a route's conditions may look at, and what each is for an event."""

from __future__ import annotations

from angelon.core import questions
from angelon.core.conditions.evaluate import Subject, Verdict, evaluate
from angelon.core.event_types import CHANGES
from angelon.core.planning import purchases
from angelon.core.planning.context import PlanningContext
from angelon.core.planning.inputs import Answer, Contact, Setup
from angelon.core.problems import Problem
from angelon.core.specs.condition import OPERATOR_LABELS, OPERATORS, Compare, Group, compares
from angelon.core.specs.message import Message
from angelon.core.specs.source import READING
from angelon.core.values import Money, Value


def worked_condition(group: Group, context: PlanningContext) -> Verdict:
    """Conditions worked out for an event, with what is known besides it."""
    return evaluate(group, lambda name: subject(name, context), context.today, context.setup.store.locale)


def only_again(group: Group) -> Group:
    """The part of a group that has to hold when a send is due, too; a group of which nothing has to is left out."""
    kept: list[Compare | Group] = []
    for part in group.of:
        if isinstance(part, Group):
            inner = only_again(part)
            if inner.of:
                kept.append(inner)
        elif part.again:
            kept.append(part)
    return Group(join=group.join, of=kept)


def subject(name: str, context: PlanningContext) -> Subject:
    """What a comparison looks at: a variable, a part of the order, its history, the customer's, the change of
    status.
    """
    found = context.subjects.get(name)
    if found is None:
        found = context.subjects[name] = _subject(name, context)
    return found


def _subject(name: str, context: PlanningContext) -> Subject:
    setup, facts, reading = context.setup, context.facts, context.reading
    root, _, part = name.partition(".")
    if name == "status":
        about_question = context.event.type in questions.EVENTS
        return Subject(("", "") if about_question else (context.event.was, context.event.now), "change")
    if root == "question":
        return _question(part, context)
    if not part:
        variable = setup.variables.get(name)
        if variable is None:
            return Subject(problem=f"There is no variable “{name}” any more.")
        evaluation = context.variables[name]
        return Subject(evaluation.value if evaluation.present else None, KINDS.get(variable.type.value, "text"))
    if root == "order" and part in READING:
        value = facts.current.get(part) or reading.value(part)
        return Subject(value, KINDS.get(READING[part][0].value, "text"))
    if root == "history" and part.removesuffix("es") in CHANGES:
        return Subject(list(facts.statuses_of(part.removesuffix("es"))), "list")
    if name == "history.answers":
        return Subject([answer.text for answer in answers(context)], "list")
    if name == "history.answer":
        return Subject(next((answer.text for answer in reversed(answers(context))), None), "text")
    if name == "history.events":
        return Subject([type_ for type_, _ in facts.types], "list")
    if root == "contact" and part in CONTACT:
        return Subject(_of_contact(part, facts.contact or Contact(), context), CONTACT[part])
    if root == "kept":
        return _kept(part, context)
    if root == "segment":
        segment = next((s for s in setup.store.segments if s.key == part), None)
        if segment is None:
            return Subject(problem=f"There is no audience “{part}” any more.")
        if any(inner.of.startswith("segment.") for inner in compares(segment.holds)):
            return Subject(problem=f"The audience “{segment.name}” uses another audience, which is not possible.")
        verdict = evaluate(segment.holds, lambda inner: subject(inner, context), context.today, setup.store.locale)
        return Subject(verdict.yes, "flag", verdict.problem)
    return Subject(problem=f"There is nothing called “{name}” to compare.")


def _question(part: str, context: PlanningContext) -> Subject:
    """The outcome of a message's question: what this very event says, else as the order has it; nothing where it was
    never asked.
    """
    wanted = f"question.{part}"
    message = next((one for one in asking(context.setup) if questions.subject_name(one.key) == wanted), None)
    if message is None:
        return Subject(problem=f"There is no message with a question “{part}” any more.")
    event = context.event
    if event.type in questions.EVENTS and event.was == message.key and event.type != questions.LATE_EVENT:
        return Subject(event.now, "text")
    return Subject(questions.outcome_of(context.facts.questions, message.key), "text")


def asking(setup: Setup) -> list[Message]:
    """The messages that ask a question."""
    return [message for message in setup.messages.values() if message.question is not None]


def _of_contact(part: str, contact: Contact, context: PlanningContext) -> Value:
    reading = context.reading
    match part:
        case "tags":
            return list(contact.tags)
        case "language":
            return reading.text("language") or contact.language or None
        case "country":
            return reading.text("country") or contact.country or None
        case "spent":
            total = reading.value("total")
            return purchases.spent(contact.purchases, total.currency if isinstance(total, Money) else "")
        case "products":
            return purchases.products(contact.purchases)
    return getattr(contact, part)


def _kept(name: str, context: PlanningContext) -> Subject:
    """What this event says, else what an earlier one of the customer's has said."""
    variable = context.setup.variables.get(name)
    if variable is None:
        return Subject(problem=f"There is no variable “{name}” any more.")
    if not variable.keep:
        return Subject(problem=f"The variable “{name}” is not kept with the customer.")
    said = context.variables[name].said
    contact = context.facts.contact or Contact()
    return Subject(contact.kept.get(name) if said is None else said, KINDS.get(variable.type.value, "text"))


def answers(context: PlanningContext) -> list[Answer]:
    """What the order's customer has answered, oldest first; with what this very event brings."""
    found, event = list(context.facts.answers), context.event
    if event.type == "answer.received" and not any(answer.at == event.received_at for answer in found):
        found.append(Answer(event.name, event.received_at))
    return found


CONTACT = {
    **{"orders": "number", "spent": "number", "products": "list", "returned": "flag", "complained": "flag"},
    **{"country": "text", "language": "text", "tags": "list"},
}
"""What is known of a customer, and the kind of each."""

KINDS = {"money": "number", "number": "number", "date": "date", "list": "list", "flag": "flag"}
"""The kind of comparison for a type of value; text for all others."""


def checked(group: Group, setup: Setup) -> list[Problem]:
    """What is wrong with a route's conditions, whatever the event: errors and warnings."""
    found = []
    kinds = dict(subjects(setup))
    for part in compares(group):
        kind = kinds.get(part.of)
        if kind is None:
            found.append(
                Problem(
                    part.of,
                    f"A condition looks at “{part.of}”, which is not there any more.",
                    "Choose something else, or take the condition out.",
                )
            )
            continue
        known = OPERATORS["number"] if part.which == "count" else () if kind == "list" else OPERATORS[kind]
        if known and part.op not in known:
            found.append(
                Problem(
                    part.of,
                    f"“{part.label}” can't be evaluated: it is a {kind}.",
                    f"Choose one of {', '.join(OPERATOR_LABELS[op] for op in known)}.",
                )
            )
        if part.op in ("one_of", "none_of") and not part.values:
            found.append(
                Problem(part.of, f"“{part.label}” names nothing to compare with.", "Write at least one value.")
            )
        if part.item in ("name", "title") and part.op in ("is", "is_not", "one_of", "none_of"):
            found.append(
                Problem(
                    part.of,
                    f"“{part.label}” compares a title, which the shop may change.",
                    "Compare the sku, which stays.",
                    "warning",
                )
            )
    found += [
        Problem("if", "A group of “any” with nothing in it never holds.", "Put a condition in, or take the group out.")
        for inner in _groups(group)
        if inner.join == "any" and not inner.of
    ]
    return found


def _groups(group: Group) -> list[Group]:
    return [inner for part in group.of if isinstance(part, Group) for inner in (part, *_groups(part))]


def subjects(setup: Setup) -> list[tuple[str, str]]:
    """Everything that a condition may look at: name and kind."""
    found = [(name, KINDS.get(v.type.value, "text")) for name, v in setup.variables.items()]
    found += [
        (f"order.{part}", KINDS.get(wanted.value, "text")) for part, (wanted, _) in READING.items() if part != "address"
    ]
    found += [("status", "change"), *((f"history.{part}es", "list") for part in CHANGES), ("history.events", "list")]
    found += [("history.answer", "text"), ("history.answers", "list")]
    return [
        *found,
        *((f"contact.{part}", kind) for part, kind in CONTACT.items()),
        *((f"kept.{name}", KINDS.get(v.type.value, "text")) for name, v in setup.variables.items() if v.keep),
        *((f"segment.{segment.key}", "flag") for segment in setup.store.segments),
        *((questions.subject_name(message.key), "text") for message in asking(setup)),
    ]
