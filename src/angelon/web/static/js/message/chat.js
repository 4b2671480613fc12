// A chat message: header, body, footer, buttons, and a sample for each placeholder.
import { button, choice, element } from "./parts.js";

const KINDS = { link: "Opens a link", reply: "Answers", call: "Calls" };

export function chat(root, page) {
  const { text, spec, make, changed } = page;
  text.header ??= { kind: "none" };
  text.buttons ??= [];
  text.samples ??= {};
  const head = root.querySelector("[data-header]");
  header();
  make(root.querySelector("[data-field=body]"), "body", text.body ?? "",
    { label: "Body", hint: "A fixed text with gaps; {{ opens the list of variables.", write: (now) =>
    (text.body = now) });
  make(root.querySelector("[data-field=footer]"), "footer", text.footer ?? "",
    { label: "Footer", hint: "fixed words under it", oneLine: true, write: (now) => (text.footer = now) });
  buttons();
  const category = root.querySelector("[data-category]");
  category.value = spec.category ?? "order";
  category.addEventListener("change", () => ((spec.category = category.value), changed()));
  let drawn = "";
  page.onSeen((seen) => samples(seen.more.placeholders ?? []));

  function header() {
    page.forget("header");
    const kind = choice([["none", "none"], ["text", "a line of text"], ["image", "a picture"],
      ["document", "a document"]], text.header.kind, (now) => ((text.header = { kind: now }), header(), changed()));
    kind.setAttribute("aria-label", "Kind of header");
    head.replaceChildren(element("div", { className: "only-if" }, kind));
    if (text.header.kind === "none") return;
    const part = text.header.kind === "text" ? "text" : "url";
    const into = element("div", { className: "into" });
    head.append(into);
    make(into, `header.${part}`, text.header[part] ?? "", { label: `Header: ${part}`, hint: part === "url"
      ? "https://…" : "", oneLine: true, write: (now) => (text.header[part] = now) });
  }

  function buttons() {
    page.forget("buttons");
    const holder = root.querySelector("[data-buttons]");
    const rows = text.buttons.map((one, number) => {
      const body = element("div", { className: "body" });
      const kind = choice(Object.entries(KINDS), one.kind, (now) =>
        (Object.assign(one, { kind: now, url: "", phone: "" }), buttons(), changed()));
      kind.setAttribute("aria-label", `Button ${number + 1}: what it does`);
      body.append(element("div", { className: "only-if" }, kind));
      const parts = [["text", "words on the button"], ...(one.kind === "link" ? [["url", "https://…"]]
        : one.kind === "call" ? [["phone", "+353 20 915 1234"]] : [])];
      for (const [part, hint] of parts) {
        const into = element("div", { className: "into" });
        body.append(into);
        make(into, `buttons.${number}.${part}`, one[part] ?? "",
          { label: `Button ${number + 1}: ${part}`, hint, oneLine: true, write: (now) => (one[part] = now) });
      }
      const gone = button("×", () => (text.buttons.splice(number, 1), buttons(), changed()),
        { title: "Remove", "aria-label": `Remove button ${number + 1}` });
      return element("div", { className: "piece", "data-place": `buttons.${number}` },
        element("div", { className: "side" }, element("div", {}, "Button"),
        element("div", { className: "tools" }, gone)), body);
    });
    const more = button("Add a button", () => (text.buttons.push({ kind: "reply", text: "" }), buttons(), changed()),
      { className: "button small" });
    more.disabled = text.buttons.length >= 3;
    holder.replaceChildren(...rows, element("div", { className: "line adds" }, element("span", {}, ""),
      element("div", { className: "row" }, more)));
  }

  function samples(placeholders) {
    const holder = root.querySelector("[data-samples]");
    const of = placeholders.map((p) => `${p.of}=${p.now}`).join("|");
    if (of === drawn) return;
    drawn = of;
    const rows = placeholders.map((p) => {
      const input = Object.assign(document.createElement("input"),
        { className: "input", value: text.samples[p.of] ?? "" });
      input.setAttribute("aria-label", `Sample for ${p.of}`);
      input.dataset.place = `samples.${p.of}`;
      input.addEventListener("input", () => ((text.samples[p.of] = input.value.replace(/\s+/g, " ")), changed()));
      const take = button("Use it", () => ((input.value = p.now), (text.samples[p.of] = p.now), changed()),
        { className: "button small", title: "Use what it is for the sample event" });
      take.disabled = !p.now;
      return element("tr", {}, element("td", { className: "tight" }, `{${p.number}}`),
        element("td", { className: "tight" }, element("span", { className: "chip" }, p.of)), element("td", {},
        input), element("td", { className: "value now" }, p.now
        || "no value"), element("td", { className: "n" }, take));
    });
    const table = element("table", { className: "rows" });
    table.append(document.createElement("tbody"));
    table.tBodies[0].append(...rows);
    holder.replaceChildren(rows.length ? table : element("p", { className: "note" }, "The text has no placeholder."));
  }
}
