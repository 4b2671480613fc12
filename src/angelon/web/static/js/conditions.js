// Conditions in place: groups of all, any or none; each comparison with the value for the sample event and its yes or
// no.
import { button, choice, element } from "./message/parts.js";

const MARKS = { yes: "M1.8 7l3.2 3.2 6.2-7", no: "M2 6.5h9" };

function mark(verdict) {
  if (!verdict) return element("span", { className: "state mute" });
  const shown = element("span", { className: `state ${verdict.problem ? "wait" : verdict.yes ? "good" : "mute"}`,
    title: verdict.problem || (verdict.yes ? "yes" : "no") });
  const mark = verdict.problem
    ? '<rect x="2" y="2" width="9" height="9" fill="none" stroke="currentColor" stroke-width="1.7"/>'
    : `<path d="${verdict.yes ? MARKS.yes : MARKS.no}" fill="none" stroke="currentColor" stroke-width="2"/>`;
  shown.innerHTML = `<svg viewBox="0 0 13 13" aria-hidden="true">${mark}</svg>`;
  shown.append(element("span", { className: "visually-hidden" }, verdict.problem ? "can’t be evaluated" : verdict.yes
    ? "yes" : "no"));
  return shown;
}

export function conditions(form, keep) {
  const told = JSON.parse(form.querySelector("script").textContent);
  const tree = form.querySelector("[data-tree]");
  const by = Object.fromEntries(told.subjects.map((s) => [s.name, s]));
  const group = told.group;

  let timer;
  const changed = () => {
    clearTimeout(timer);
    form.elements.only_if.value = JSON.stringify(group);
    keep();
  };
  // A list that is gone through by keys changes with every key: what is passed on the way is not kept.
  const soon = () => {
    clearTimeout(timer);
    timer = setTimeout(changed, 350);
  };

  const labelled = (made, label, place) => {
    made.setAttribute("aria-label", label);
    made.dataset.mark = place;
    return made;
  };

  function groupOf(one, verdict, place, remove) {
    const join = labelled(choice([["all", "all of these"], ["any", "any of these"], ["none", "none of these"]],
      one.join, (now) => ((one.join = now), soon())), "How they count together", `${place}-join`);
    const rows = one.of.map((part, at) => {
      const inner = verdict?.inner?.[at];
      const gone = () => (one.of.splice(at, 1), changed());
      return part.kind === "group" ? groupOf(part, inner, `${place}.${at}`, gone)
        : row(part, inner, `${place}.${at}`, gone);
    });
    const add = labelled(button("Add a condition", () =>
      (one.of.push({ kind: "compare", of: told.subjects[0].name, op: told.operators[told.subjects[0].kind]?.[0]
      ?? "present" }), changed()), { className: "button small" }), "Add a condition", `${place}-add`);
    const nest = labelled(button("Add a group", () => (one.of.push({ kind: "group", join: "any", of: [] }), changed()),
      { className: "button small" }), "Add a group", `${place}-nest`);
    const head = element("div", { className: "row" }, mark(verdict && one.of.length ? verdict : null), join,
      ...(remove ? [button("×", remove, { className: "gone", title: "Remove", "aria-label": "Remove the group" })]
      : []));
    return element("div", { className: "join" }, ...(one.of.length > 1 || remove ? [head] : []), ...rows,
      element("div", { className: "row" }, add, nest));
  }

  function row(part, verdict, place, remove) {
    const known = by[part.of] ?? { kind: "text", value: "" };
    const options = told.subjects.map((s) => [s.name, told.called[s.name]
      ?? s.name.replaceAll("_", " ").replace(".", "’s ")]);
    if (!by[part.of]) options.unshift([part.of, `${part.of} (deleted)`]);
    const of = labelled(choice(options, part.of, (now) => {
      Object.assign(part, { of: now, which: by[now].kind === "list" ? "any" : "", item: "", op: by[now].kind === "list"
        ? "is" : told.operators[by[now].kind][0], value: "", to: "", values: [] });
      soon();
    }), "What is looked at", `${place}-of`);
    const kind = part.which === "count" ? "number" : known.kind === "list" ? "text" : known.kind;
    const pieces = [of];
    if (known.kind === "list") {
      pieces.push(labelled(choice([["any", "any of its items"], ["all", "all of its items"],
        ["none", "none of its items"], ["count", "their number"]], part.which || "any", (now) =>
        ((part.which = now), (part.op = now === "count" ? "greater" : "is"),
        soon())), "Which items", `${place}-which`));
      if (part.which !== "count"
        && told.items[part.of]) pieces.push(labelled(choice([["", "as it is"],
        ...told.items[part.of].map((i) => [i, i.replaceAll("_", " ")])], part.item, (now) =>
        ((part.item = now), soon())), "Field of the item", `${place}-item`));
    }
    const ops = known.kind === "list" && part.which !== "count"
      ? [...new Set([...told.operators.text, ...told.operators.number])].filter((op) => op !== "between")
      : told.operators[kind];
    pieces.push(labelled(choice((ops.includes(part.op) ? ops : [part.op, ...ops]).map((op) => [op, told.said[op]]),
      part.op, (now) => ((part.op = now), soon())), "How it is compared", `${place}-op`));
    const seen = told.seen?.[part.item ? `${part.of}.${part.item}` : part.of] ?? [];
    const input = (name, label, text, write) => {
      const made = labelled(element("input", { className: "input", value: text, placeholder: kind === "date"
        ? "today+3 or 2026-12-24" : "" }), label, `${place}-${name}`);
      made.addEventListener("change", () => (write(made.value), changed()));
      if (!seen.length || name === "values") return made;
      const list = element("datalist", { id: `${place}-${name}-seen` }, ...seen.map(([value, title]) =>
        element("option", { value, label: title || value })));
      made.setAttribute("list", list.id);
      return element("span", {}, made, list);
    };
    if (["one_of", "none_of"].includes(part.op)) {
      const typed = input("values", "Values, parted by commas", (part.values ?? []).join(", "), (now) =>
        (part.values = now.split(",").map((v) => v.trim()).filter(Boolean)));
      pieces.push(typed);
      if (seen.length) pieces.push(element("details", { className: "seen-values" },
        element("summary", { className: "link" }, `choose from ${seen.length} seen`),
        element("div", { className: "ticks" }, ...seen.map(([value, title]) => {
          const tick = element("input", { type: "checkbox", checked: (part.values ?? []).includes(value) });
          tick.addEventListener("change", () => {
            part.values = (part.values ?? []).filter((one) => one !== value);
            if (tick.checked) part.values.push(value);
            typed.value = part.values.join(", ");
            changed();
          });
          return element("label", { className: "check" }, tick, value,
            ...(title ? [" ", element("span", { className: "quiet" }, title)] : []));
        }))));
    }
    else if (part.op === "changed") pieces.push("from", input("value", "From which status", part.value ?? "", (now) =>
      (part.value = now)), "to", input("to", "To which status", part.to ?? "", (now) => (part.to = now)));
    else if (!["present", "absent", "yes", "no"].includes(part.op)) {
      pieces.push(input("value", "Value", part.value ?? "", (now) => (part.value = now)));
      if (part.op === "between") pieces.push("and", input("to", "Upper value", part.to ?? "", (now) =>
        (part.to = now)));
    }
    const again = labelled(element("input", { type: "checkbox", checked: Boolean(part.again) }),
      "Check again before sending", `${place}-again`);
    again.addEventListener("change", () => ((part.again = again.checked), changed()));
    const saw = verdict?.problem || (verdict ? verdict.saw || "empty" : known.value);
    return element("div", { className: "compare" },
      element("div", { className: "row" }, mark(verdict), ...pieces,
        button("×", remove, { className: "gone", title: "Remove", "aria-label": "Remove the condition" })),
      element("div", { className: "row under" }, ...(verdict?.read
        ? [element("span", { className: "quiet" }, `read as ${verdict.read} · the sample has`)]
        : []), element("span", { className: verdict?.problem ? "wait"
        : "value" }, saw), element("label", { className: "check push" }, again, "check again before sending")));
  }

  tree.replaceChildren(groupOf(group, told.verdict, "g", null));
}
