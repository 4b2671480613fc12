// The message editor: the draft saves itself as you write, and the preview is of the text as it stands.
import { post, settled } from "./talk.js";
import { fit } from "./sandboxed.js";
import { say } from "./toast.js";

const NAMES = { heading: "Heading", text: "Text", button: "Button", lines: "Order lines", divider: "Line", image: "Picture", mjml: "MJML" };
const FIELDS = {
  heading: [["text", "the heading"]],
  text: [["text", "a blank line starts a paragraph; **strong**, _emphasis_, [words](https://…)"]],
  button: [["text", "words on the button"], ["url", "https://… or a variable that holds an address"]],
  image: [["src", "https://… address of the picture"], ["alt", "what it shows, in words"]],
  mjml: [["mjml", "<mj-text>…</mj-text>"]],
};

export function start(root) {
  const spec = JSON.parse(root.querySelector("[data-spec]").textContent);
  const variables = JSON.parse(root.querySelector("[data-variables]").textContent);
  const locale = root.dataset.locale;
  spec.email[locale] ??= { subject: "", blocks: [] };
  const text = spec.email[locale];
  text.blocks ??= [];
  const frame = root.querySelector("[data-preview]");
  const saved = root.querySelector("[data-saved]");
  let last = root.querySelector("[data-part=subject]");
  let saving = null;
  let view = "wide";

  for (const part of root.querySelectorAll("[data-part]")) {
    part.value = text[part.dataset.part] ?? "";
    part.addEventListener("input", () => {
      text[part.dataset.part] = part.value.replace(/\n/g, " ");
      changed();
    });
  }
  const list = root.querySelector("[data-blocks]");
  draw();

  root.addEventListener("focusin", (event) => {
    if (event.target.matches(".writing textarea")) last = event.target;
  });
  root.querySelectorAll("[data-add]").forEach((button) =>
    button.addEventListener("click", () => {
      text.blocks.push({ kind: button.dataset.add, ...Object.fromEntries((FIELDS[button.dataset.add] ?? []).map(([name]) => [name, ""])) });
      draw();
      list.lastElementChild?.querySelector("textarea")?.focus();
      changed();
    }),
  );
  const inserts = root.querySelector("[data-inserts]");
  for (const variable of variables) {
    const button = document.createElement("button");
    button.type = "button";
    button.title = variable.about || variable.name;
    button.innerHTML = `<span class="chip"></span><span class="value"></span>`;
    button.firstChild.textContent = variable.name;
    button.lastChild.textContent = variable.value || (variable.required ? "no value in this event" : "");
    button.addEventListener("mousedown", (event) => event.preventDefault());
    button.addEventListener("click", () => insert(variable.name));
    inserts.append(button);
  }

  function insert(name) {
    const into = last?.isConnected ? last : list.querySelector("textarea");
    if (!into) return say("Add a text first");
    into.focus();
    into.setRangeText(`{{ ${name} }}`, into.selectionStart, into.selectionEnd, "end");
    into.dispatchEvent(new Event("input", { bubbles: true }));
  }

  function draw() {
    list.replaceChildren(...text.blocks.map(blockOf));
  }

  function blockOf(block, number) {
    const element = document.createElement("div");
    element.className = `piece ${block.kind}`;
    element.innerHTML = `<div class="side"><div></div><div class="tools"><button type="button" title="Move up" aria-label="Move up">↑</button><button type="button" title="Move down" aria-label="Move down">↓</button><button type="button" title="Remove" aria-label="Remove">×</button></div></div><div class="body"></div>`;
    element.querySelector(".side > div").textContent = NAMES[block.kind];
    const [up, down, remove] = element.querySelectorAll(".tools button");
    up.setAttribute("aria-label", `Move ${NAMES[block.kind]} up`);
    up.addEventListener("click", () => shift(number, -1));
    down.addEventListener("click", () => shift(number, 1));
    remove.addEventListener("click", () => {
      const [gone] = text.blocks.splice(number, 1);
      draw();
      changed();
      undo(gone, number);
    });
    const body = element.querySelector(".body");
    for (const [name, hint] of FIELDS[block.kind] ?? []) {
      const area = document.createElement("textarea");
      area.className = `textarea${name === "url" || name === "src" ? " address" : ""}`;
      area.rows = 1;
      area.value = block[name] ?? "";
      area.placeholder = hint;
      area.setAttribute("aria-label", `${NAMES[block.kind]}: ${name}`);
      area.addEventListener("input", () => {
        block[name] = area.value;
        changed();
      });
      body.append(area);
    }
    if (block.kind === "lines") body.insertAdjacentHTML("beforeend", `<div class="note">name, quantity and price of each line · then the total</div>`);
    if (block.kind === "divider") body.insertAdjacentHTML("beforeend", `<div class="note">a thin line across</div>`);
    const only = document.createElement("label");
    only.className = "only-if";
    only.append("only if ");
    const choice = document.createElement("select");
    choice.append(new Option("always shown", ""), ...variables.filter((v) => !v.name.includes(".")).map((v) => new Option(`${v.name} has a value`, v.name)));
    choice.value = block.only_if ?? "";
    choice.addEventListener("change", () => {
      block.only_if = choice.value || null;
      changed();
    });
    only.append(choice);
    body.append(only);
    return element;
  }

  function shift(number, by) {
    const to = number + by;
    if (to < 0 || to >= text.blocks.length) return;
    [text.blocks[number], text.blocks[to]] = [text.blocks[to], text.blocks[number]];
    draw();
    changed();
  }

  function undo(block, number) {
    const toast = document.createElement("div");
    toast.className = "toast";
    toast.append(`${NAMES[block.kind]} removed. `);
    const button = document.createElement("button");
    button.className = "button small";
    button.textContent = "Put it back";
    button.addEventListener("click", () => {
      text.blocks.splice(number, 0, block);
      draw();
      changed();
      toast.remove();
    });
    toast.append(button);
    document.body.append(toast);
    setTimeout(() => toast.remove(), 8000);
  }

  const keep = settled(async (signal) => {
    const run = post(root.dataset.to, { spec, locale }, { signal });
    saving = run;
    let told;
    try {
      told = await run;
    } catch (error) {
      if (error.name === "AbortError") throw error;
      saved.textContent = "not saved";
      saved.className = "bad";
      return say(`Not saved. ${error.message}`, true);
    }
    if (!told.saved) {
      saved.textContent = "not saved";
      saved.className = "bad";
      return say(`Not saved. ${told.problems.map((p) => `${p.what} ${p.mend}`).join(" ")}`, true);
    }
    document.querySelector(".toast.bad-news")?.remove();
    saved.textContent = "draft saved just now";
    saved.className = "";
    root.querySelector("[data-checks]").innerHTML = told.checks;
    if (told.preview) paint(told.preview);
  }, 180);

  function changed() {
    saved.textContent = "writing…";
    keep();
  }

  function paint(preview) {
    const broken = root.querySelector("[data-broken]");
    broken.hidden = Boolean(preview.html);
    broken.textContent = preview.problems.map((p) => `${p.what} ${p.mend}`).join(" ");
    root.querySelector("[data-lacking]").replaceChildren(
      ...(preview.html ? preview.problems : []).map((p) => Object.assign(document.createElement("li"), { textContent: `${p.what} ${p.mend}` })),
    );
    frame.hidden = !preview.html;
    if (!preview.html) return;
    root.querySelector("[data-subject]").textContent = preview.subject || "no subject";
    root.querySelector("[data-to-whom]").textContent = preview.to || "nobody yet";
    root.querySelector("[data-size]").textContent = `${(preview.bytes / 1024).toFixed(0)} KB`;
    const plain = root.querySelector("[data-plain]");
    plain.textContent = view === "source" ? preview.html : preview.text;
    plain.dataset.text = preview.text;
    plain.dataset.html = preview.html;
    const scrolled = frame.contentWindow?.scrollY ?? 0;
    frame.srcdoc = preview.html;
    frame.addEventListener("load", () => frame.contentWindow?.scrollTo(0, scrolled), { once: true });
    show();
  }

  function show() {
    const plain = root.querySelector("[data-plain]");
    const asText = view === "text" || view === "source";
    plain.hidden = !asText;
    frame.hidden = asText;
    if (asText) plain.textContent = view === "source" ? plain.dataset.html || frame.srcdoc : plain.dataset.text || plain.textContent;
    root.querySelector(".letter").classList.toggle("narrow", view === "narrow");
    for (const button of root.querySelectorAll("[data-view]")) button.setAttribute("aria-pressed", String(button.dataset.view === view));
  }
  root.querySelectorAll("[data-view]").forEach((button) => button.addEventListener("click", () => ((view = button.dataset.view), show())));
  root.querySelector("[data-plain]").dataset.text = root.querySelector("[data-plain]").textContent;
  fit(frame);

  // Publishing waits for the last keystrokes to be kept.
  root.querySelector("[data-publish]").addEventListener("submit", async (event) => {
    event.preventDefault();
    try {
      await saving;
      const told = await post(root.dataset.to, { spec, locale });
      if (!told.saved) return say(told.problems.map((p) => p.what).join(" "), true);
    } catch (error) {
      if (error.name !== "AbortError") return say(error.message, true);
    }
    event.target.submit();
  });
  const adding = root.querySelector("[data-new-locale]");
  adding.querySelector("button").addEventListener("click", async () => {
    const tag = adding.querySelector("input").value.trim();
    if (!tag) return;
    try {
      const told = await post(root.dataset.to, { spec: { ...spec, email: { ...spec.email, [tag]: spec.email[tag] ?? structuredClone(text) } }, locale: tag });
      if (!told.saved) return say(told.problems.map((p) => p.what).join(" "), true);
      location.search = `?locale=${encodeURIComponent(tag)}`;
    } catch (error) {
      say(error.message, true);
    }
  });
}
