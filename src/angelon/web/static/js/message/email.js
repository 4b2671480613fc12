// An email's parts: subject, blocks or a page of one's own, plain text, who else gets it, what is attached.
import { post } from "../request.js";
import { say } from "../toast.js";
import { button, choice, element } from "./parts.js";

const NAMES = { heading: "Heading", text: "Text", button: "Button", lines: "Order lines", address: "Address",
  parcel: "Parcel", answers: "Answers", divider: "Line", image: "Picture", columns: "Two columns", mjml: "MJML" };
const FIELDS = {
  heading: [["text", "the heading", true]],
  text: [["text", "a blank line starts a paragraph; **strong**, _emphasis_, [words](https://…)", false]],
  button: [["text", "words on the button", true], ["url", "https://… or a variable that holds an address", true]],
  address: [["title", "words above it, such as It goes to", true]],
  image: [["src", "https://… or a file of the library", true], ["alt", "what it shows, in words", true]],
  mjml: [["mjml", "<mj-text>…</mj-text>", false]],
};
const NOTES = {
  lines: "name, quantity and price of each line · postage, discount, tax · then the total",
  address: "then the address that the source reads, line by line",
  parcel: "carrier, number and day of each parcel · its stage",
  answers: "a button for each answer of the question · each opens the page where it is given",
  divider: "a thin line across",
};

export function email(root, page) {
  const { text, spec, make, changed, variables, library } = page;
  text.blocks ??= [];
  const list = root.querySelector("[data-blocks]");
  for (const [part, label, hint] of [["subject", "Subject", ""],
    ["preheader", "Preheader", "what a mailbox shows after the subject"]]) {
    make(root.querySelector(`[data-field=${part}]`), part, text[part] ?? "",
      { label, hint, oneLine: true, write: (now) => (text[part] = now) });
  }
  const adds = root.querySelector("[data-adds]");
  for (const kind of Object.keys(NAMES)) adds.append(button(NAMES[kind], () => add(text.blocks, kind),
    { className: "button small", "data-add": kind }));
  draw();
  ownPage();
  plainText();
  envelope();
  attachments();

  function add(blocks, kind) {
    const block = { kind, ...Object.fromEntries((FIELDS[kind] ?? []).map(([name]) => [name, ""])),
      ...(kind === "columns" ? { left: [], right: [] } : {}) };
    blocks.push(block);
    draw();
    list.querySelector(`[data-place="${place(block)}"] .cm-content`)?.focus();
    changed();
  }

  function place(block) {
    const at = text.blocks.indexOf(block);
    if (at >= 0) return `blocks.${at}`;
    for (const [number, outer] of text.blocks.entries())
      for (const side of ["left", "right"]) {
        const inner = outer[side]?.indexOf(block) ?? -1;
        if (inner >= 0) return `blocks.${number}.${side}.${inner}`;
      }
    return "";
  }

  function draw() {
    page.forget("blocks");
    list.replaceChildren(...text.blocks.map((block) => piece(block, text.blocks)));
  }

  function piece(block, among) {
    const name = NAMES[block.kind];
    const tools = element("div", { className: "tools" },
      button("↑", () => shift(block, among, -1), { title: "Move up", "aria-label": `Move ${name} up` }),
      button("↓", () => shift(block, among, 1), { title: "Move down", "aria-label": `Move ${name} down` }),
      button("×", () => remove(block, among), { title: "Remove", "aria-label": `Remove ${name}` }));
    const body = element("div", { className: "body" });
    const where = place(block);
    for (const [part, hint, oneLine] of FIELDS[block.kind] ?? []) {
      const holder = element("div", { className: `into${part === "url" || part === "src" ? " address" : ""}` });
      body.append(holder);
      make(holder, `${where}.${part}`, block[part] ?? "", { label: `${name}: ${part}`, hint, oneLine,
        page: part === "mjml", rich: block.kind === "text", write: (now) => (block[part] = now) });
    }
    if (block.kind === "image") body.append(pictureTools(block));
    if (NOTES[block.kind]) body.append(element("div", { className: "note" }, NOTES[block.kind]));
    if (block.kind === "columns") body.append(sides(block));
    if (block.kind === "text") tools.append(...marks(where));
    return element("div", { className: `piece of-${block.kind}`, "data-place": where },
      element("div", { className: "side" }, element("div", {}, name), onlyIf(block), tools), body);
  }

  function marks(where) {
    const on = (act) => () => act(page.fieldAt(`${where}.text`));
    return [
      button("B", on((f) => f.around("**")), { title: "Strong (Ctrl+B)", "aria-label": "Strong", className: "strong" }),
      button("I", on((f) => f.around("_")), { title: "Emphasis (Ctrl+I)", "aria-label": "Emphasis",
        className: "slanted" }),
      button("↗", on((f) => f.linked()), { title: "Link", "aria-label": "Link" }),
    ];
  }

  function sides(block) {
    const both = element("div", { className: "sides" });
    for (const side of ["left", "right"]) {
      block[side] ??= [];
      const more = choice([["", `add to the ${side}`], ...Object.entries(NAMES).filter(([kind]) =>
        kind !== "columns")], "", (kind) => kind && add(block[side], kind));
      more.setAttribute("aria-label", `Add to the ${side} column`);
      both.append(element("div", {}, ...block[side].map((inner) => piece(inner, block[side])),
        element("div", { className: "note" }, more)));
    }
    return both;
  }

  function pictureTools(block) {
    const files = choice([["", "a web address"], ...library.pictures.map((mark) => [`library:${mark}`, mark])],
      library.pictures.some((mark) => block.src === `library:${mark}`) ? block.src : "", (now) => {
      if (!now) return;
      block.src = now;
      draw();
      changed();
    });
    files.setAttribute("aria-label", "Picture from the library");
    const width = Object.assign(document.createElement("input"),
      { type: "number", min: 16, max: 1200, value: block.width ?? 552, className: "small-number" });
    width.setAttribute("aria-label", "Width in pixels");
    width.addEventListener("input", () => {
      const now = Number(width.value);
      if (now >= 16 && now <= 1200) (block.width = now), changed();
    });
    const file = Object.assign(document.createElement("input"),
      { type: "file", accept: "image/png,image/jpeg,image/gif", hidden: true });
    file.addEventListener("change", async () => {
      if (!file.files[0]) return;
      const form = new FormData();
      form.append("file", file.files[0]);
      try {
        const told = await post(page.addresses.picture, form);
        if (!library.pictures.includes(told.picture)) library.pictures.push(told.picture);
        block.src = `library:${told.picture}`;
        draw();
        changed();
      } catch (error) {
        say(error.message, true);
      }
    });
    return element("div", { className: "only-if" }, "from ", files, " ", button("Upload a picture", () => file.click(),
      { className: "button small" }), file, " ", width, " pixels wide");
  }

  function onlyIf(block) {
    const select = choice([["", "always"], ...variables.filter((v) => !v.name.includes(".")).map((v) =>
      [v.name, `if ${v.name}`])], block.only_if ?? "", (now) => {
      block.only_if = now || null;
      select.parentElement.classList.toggle("set", Boolean(now));
      select.title = now ? `shown only if ${now} has a value` : "always shown";
      changed();
    });
    select.title = block.only_if ? `shown only if ${block.only_if} has a value` : "always shown";
    select.setAttribute("aria-label", `${NAMES[block.kind]}: when it is shown`);
    return element("div", { className: `shown-if${block.only_if ? " set" : ""}` }, select);
  }

  function shift(block, among, by) {
    const at = among.indexOf(block);
    const to = at + by;
    if (to < 0 || to >= among.length) return;
    among.splice(at, 1);
    among.splice(to, 0, block);
    draw();
    changed();
    list.querySelector(`[data-place="${place(block)}"] .tools button:nth-child(${by < 0 ? 1 : 2})`)?.focus();
  }

  function remove(block, among) {
    const at = among.indexOf(block);
    among.splice(at, 1);
    draw();
    changed();
    page.offer(`${NAMES[block.kind]} removed.`, "Put it back", () => {
      among.splice(at, 0, block);
      draw();
      changed();
    });
  }

  // ---- a page of one's own

  function ownPage() {
    const holder = root.querySelector("[data-own-page]");
    const blocks = root.querySelectorAll("[data-with-blocks]");
    const show = () => {
      const own = Boolean(text.html);
      for (const part of blocks) part.hidden = own;
      holder.replaceChildren();
      page.forget("html");
      const file = Object.assign(document.createElement("input"),
        { type: "file", accept: ".html,.htm,text/html", hidden: true });
      file.addEventListener("change", () => file.files[0] && take(file.files[0]));
      const pick = button(own ? "Import another file" : "Use a page of your own (HTML)", () => file.click(),
        { className: "button small" });
      if (own) {
        const into = element("div", { className: "into page-of-own" });
        holder.append(element("div", { className: "line" }, element("span", {}, "Page (HTML)"), into));
        make(into, "html", text.html, { label: "Page (HTML)", page: true, write: (now) => (text.html = now) });
      }
      const pasted = own ? [] : [button("Paste HTML", () => paste(holder), { className: "button small" })];
      const back = own ? [button("Back to blocks", () => back_(), { className: "button small" })] : [];
      holder.append(element("div", { className: "row pad-small" }, pick, ...pasted, ...back, file));
    };
    const back_ = () => {
      const was = text.html;
      text.html = "";
      show();
      changed();
      page.offer("The page is removed; the blocks are back.", "Put it back", () =>
        ((text.html = was), show(), changed()));
    };
    const paste = (into) => {
      const field = Object.assign(document.createElement("textarea"), { className: "textarea mono", rows: 8 });
      field.setAttribute("aria-label", "HTML");
      into.append(element("div", { className: "pad-small" }, field, element("div", { className: "row" },
        button("Use this HTML", () => take(new File([field.value], "pasted.html", { type: "text/html" })),
          { className: "button small" }))));
      field.focus();
    };
    const take = async (file) => {
      const form = new FormData();
      form.append("file", file);
      try {
        const told = await post(page.addresses.import, form);
        text.html = told.html;
        show();
        changed();
        if (told.taken.length) say(`Removed from it: ${told.taken.join(", ")}.`);
      } catch (error) {
        say(error.message, true);
      }
    };
    show();
  }

  // ---- plain text

  function plainText() {
    const holder = root.querySelector("[data-plain-part]");
    const other = root.querySelectorAll("[data-with-blocks], [data-own-page]");
    const only = (now) => () => {
      text.text_only = now;
      if (now) text.text ||= page.plain() || " ";
      show();
      changed();
    };
    const show = () => {
      page.forget("text");
      for (const part of other)
        part.hidden = text.text_only || (part.matches("[data-with-blocks]") && Boolean(text.html));
      if (text.text_only) {
        holder.closest("details").open = true;
        const into = element("div", { className: "into" });
        holder.replaceChildren(into, element("div", { className: "note" }, "The mail is this text alone, without HTML ",
          button("Back to blocks", only(false), { className: "button small" })));
        make(into, "text", text.text, { label: "Plain text", write: (now) => (text.text = now) });
        return;
      }
      const into = element("div", { className: "into" });
      if (text.text) {
        holder.replaceChildren(into, element("div", { className: "note" },
          button("Make it from the mail again", () => ((text.text = ""), show(), changed()),
          { className: "button small" })));
        make(into, "text", text.text, { label: "Plain text", write: (now) => (text.text = now) });
      } else {
        holder.replaceChildren(element("div", { className: "note" }, "made from the mail ",
          button("Write it yourself", () => ((text.text = page.plain() || " "), show(), changed()),
          { className: "button small" }), button("Send as plain text only", only(true),
          { className: "button small" })));
      }
    };
    show();
  }

  // ---- who else, and what with it

  function envelope() {
    spec.envelope ??= {};
    const holder = root.querySelector("[data-envelope]");
    const senders = JSON.parse(holder.dataset.senders);
    const chosen = spec.envelope.sender ?? "";
    if (chosen && !senders.some(([key]) => key === chosen)) senders.push([chosen, `${chosen}, deleted`]);
    const select = element("select", { ariaLabel: "Sender", onchange: () => {
      spec.envelope.sender = select.value;
      changed();
    } }, ...[["", "the gateway’s own"], ...senders].map(([key, called]) =>
      element("option", { value: key, selected: key === chosen }, called)));
    holder.append(element("div", { className: "line" }, element("span", {}, "From"),
      element("span", { className: "select" }, select)));
    for (const [part, label, hint] of [["reply_to", "Reply-To", "the sender’s"],
      ["cc", "Cc", "addresses, parted by commas"], ["bcc", "Bcc", "addresses, parted by commas"]]) {
      const into = element("div", { className: "into" });
      holder.append(element("div", { className: "line" }, element("span", {}, label), into));
      make(into, part, spec.envelope[part] ?? "", { label, hint, oneLine: true, write: (now) =>
        (spec.envelope[part] = now) });
    }
  }

  function attachments() {
    spec.attachments ??= [];
    const holder = root.querySelector("[data-attachments]");
    const kinds = { library: "Files of a shelf", url: "A file from an address", calendar: "A calendar entry",
      document: "A document of the order" };
    const papers = [["invoice", "its invoice, made where there is none"], ["proforma", "a proforma invoice"],
      ["delivery", "a delivery note without prices"]];
    const dates = variables.filter((v) => v.type === "date").map((v) => [v.name, v.name]);
    const show = () => {
      page.forget("attachments");
      const rows = spec.attachments.map((one, number) => {
        const body = element("div", { className: "body" });
        const text_ = (part, label, hint) => {
          const into = element("div", { className: "into" });
          body.append(into);
          make(into, `attachments.${number}.${part}`, one[part] ?? "",
            { label: `${kinds[one.kind]}: ${label}`, hint, oneLine: true, write: (now) => (one[part] = now) });
        };
        const needs = () => {
          const box = Object.assign(document.createElement("input"),
            { type: "checkbox", checked: Boolean(one.required) });
          box.addEventListener("change", () => ((one.required = box.checked), changed()));
          return element("label", { className: "only-if" }, box, " hold the mail where there is none");
        };
        if (one.kind === "library") {
          const shelf = choice([...new Set([...library.shelves, one.shelf])].map((s) => [s, s]), one.shelf, (now) =>
            ((one.shelf = now), changed()));
          shelf.setAttribute("aria-label", "Shelf of the library");
          body.append(element("div", { className: "only-if" }, "shelf ", shelf,
            " what it has for all orders, for this order’s skus, its number, its language"), needs());
        } else if (one.kind === "url") {
          text_("url", "address", "https://…, a variable that holds addresses, or a document in base64");
          if (library.systems.length) {
            const through = choice([["", "any address"], ...library.systems], one.through ?? "", (now) =>
              ((one.through = now), changed()));
            through.setAttribute("aria-label", "Through which gateway the file is fetched");
            body.append(element("div", { className: "only-if" }, "fetched from ", through));
          }
          text_("name", "name", "name of the file, such as invoice.pdf");
          body.append(needs());
        } else if (one.kind === "document") {
          const of = choice(papers, one.of ?? "invoice", (now) => ((one.of = now), changed()));
          of.setAttribute("aria-label", "Which document");
          body.append(element("div", { className: "only-if" }, "with ", of), needs());
        } else {
          const day = choice(dates.length ? dates : [[one.day, one.day]], one.day, (now) =>
            ((one.day = now), changed()));
          day.setAttribute("aria-label", "Day of the entry");
          body.append(element("div", { className: "only-if" }, "on the day ", day, " where it has one"));
          text_("title", "title", "what the entry says");
          text_("place", "place", "where, if anywhere");
        }
        const gone = button("×", () => (spec.attachments.splice(number, 1), show(), changed()),
          { "aria-label": `Remove ${kinds[one.kind]}`, title: "Remove" });
        return element("div", { className: "piece", "data-place": `attachments.${number}` },
          element("div", { className: "side" }, element("div", {}, kinds[one.kind]),
          element("div", { className: "tools" }, gone)), body);
      });
      const more = Object.entries(kinds).map(([kind, said]) =>
        button(said, () => {
          if (kind === "library"
            && !library.shelves.length) return say("The library is empty. Upload a file under Files first.", true);
          if (kind === "calendar"
            && !dates.length) return say("There is no variable with a date yet. Make one on a source’s page.", true);
          spec.attachments.push(kind === "library" ? { kind, shelf: library.shelves.find((s) => s !== "letterhead")
            ?? library.shelves[0], required: false } : kind === "url" ? { kind, url: "", name: "", required: true }
            : kind === "document" ? { kind, of: "invoice", required: true }
            : { kind, day: dates[0][0], title: "", place: "" });
          show();
          changed();
        }, { className: "button small" }));
      holder.replaceChildren(...rows, element("div", { className: "line adds" }, element("span", {}, "Attach"),
        element("div", { className: "row" }, ...more)));
    };
    show();
  }
}

