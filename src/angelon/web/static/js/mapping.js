// The mapping: choosing a variable lights its fields; choosing a field offers it to the variable in hand. Threads
// between.
import { post } from "./request.js";
import { say } from "./toast.js";

const FINDS = ["[data-tree-find]", "[data-var-find]"];

export function start(root) {
  let chosen = root.querySelector(".var.open")?.dataset.field ?? "";
  const inHand = () => root.querySelector(".var.open");

  let before = Promise.resolve(true);
  const send = (form) => (before = before.then(() => sent(form)));
    // one after the other: an answer never overtakes a later one

  async function sent(form) {
    const keep = root.querySelector("[data-fields]")?.scrollTop ?? 0;
    const sought = FINDS.map((find) => root.querySelector(find)?.value ?? "");
    try {
      root.innerHTML = await post(root.dataset.to, form);
    } catch (error) {
      say(error.message, true);
      return false;
    }
    FINDS.forEach((find, number) => {
      const field = root.querySelector(find);
      if (field && sought[number]) field.value = sought[number], filter(field);
    });
    root.querySelector("[data-fields]").scrollTop = keep;
    chosen = inHand()?.dataset.field ?? "";
    draw();
    return true;
  }

  function ask(act, given = {}) {
    const form = new FormData();
    form.set("act", act);
    for (const [name, value] of Object.entries(given)) form.set(name, value);
    return send(form);
  }

  root.addEventListener("click", async (event) => {
    const field = event.target.closest("[data-path]");
    const opener = event.target.closest("[data-open]");
    const act = event.target.closest("[data-act]");
    if (field) {
      const variable = inHand();
      if (!variable) {
        const spare = root.querySelector("[data-path-in-hand]");
        spare.value = field.dataset.path;
        light([field.dataset.path]);
        const name = root.querySelector(".new-variable [name=name]");
        if (!name.value) name.value = guess(field.dataset.path);
        name.focus();
        name.select();
        say("Name the new variable, or click the one that is not mapped and shall have this field");
        return;
      }
      if (await ask("path", { field: variable.dataset.field, path: field.dataset.path })) {
        root.querySelector(`[data-open="${CSS.escape(variable.dataset.field)}"]`)?.focus();
      }
    } else if (act) {
      const variable = inHand();
      if (act.dataset.act === "edit_step") {
        const form = variable.querySelector(`[data-step-form="${act.dataset.number}"]`);
        form.hidden = !form.hidden;
        form.querySelector("input:not([type=hidden]), select")?.focus();
        return;
      }
      await ask(act.dataset.act, { field: variable.dataset.field, number: act.dataset.number ?? "" });
    } else if (opener) {
      const field = opener.dataset.open;
      const taken = root.querySelector("[data-path-in-hand]")?.value;
      if (taken && opener.closest("[data-unmapped]")) {
        const mapped = await ask("path", { field, path: taken });
        if (mapped) root.querySelector(`[data-open="${CSS.escape(field)}"]`)?.focus();
        return;
      }
      const closing = field === chosen;
      if (await ask("open", { field: closing ? "" : field })) {
        root.querySelector(`[data-open="${CSS.escape(field)}"]`)?.focus();
        if (!closing) showLit();
      }
    }
  });

  root.addEventListener("submit", async (event) => {
    const form = event.target.closest("[data-edit]");
    if (!form) return;
    event.preventDefault();
    await send(new FormData(form));
  });

  root.addEventListener("input", (event) => {
    if (event.target.matches(FINDS.join())) filter(event.target);
  });
  root.addEventListener("toggle", draw, true);
  root.querySelector("[data-fields]")?.addEventListener("scroll", draw);
  addEventListener("resize", draw);
  addEventListener("scroll", draw, { passive: true });
  root.addEventListener("scroll", draw, true);

  function filter(find) {
    const words = find.value.toLowerCase().split(/\s+/).filter(Boolean);
    for (const one of root.querySelectorAll(find.matches("[data-var-find]") ? ".var" : "[data-path]")) {
      one.hidden = !words.every((word) => one.dataset.words.includes(word)) && !one.classList.contains("open");
    }
    draw();
  }

  function light(places) {
    for (const field of root.querySelectorAll("[data-path]")) field.classList.toggle("lit",
      places.includes(field.dataset.path));
  }

  function showLit() {
    const pane = root.querySelector("[data-fields]");
    const field = pane?.querySelector("[data-path].lit");
    if (!field) return;
    const box = field.getBoundingClientRect(), shown = pane.getBoundingClientRect();
    if (box.top < shown.top || box.bottom > shown.bottom) pane.scrollTop += box.top - shown.top - shown.height / 3;
  }

  function draw() {
    const svg = root.querySelector("[data-threads]");
    const pane = root.querySelector("[data-fields]");
    if (!svg || !pane) return;
    const base = root.getBoundingClientRect();
    const shown = pane.getBoundingClientRect();
    const paths = [];
    let lit = [];
    for (const variable of root.querySelectorAll(".var:not([hidden])")) {
      const places = JSON.parse(variable.dataset.places || "[]");
      const open = variable.classList.contains("open");
      if (open) lit = places;
      const head = variable.querySelector(".var-head").getBoundingClientRect();
      for (const place of places) {
        const field = root.querySelector(`[data-path="${CSS.escape(place)}"]`);
        if (!field || field.hidden) continue;
        const box = field.getBoundingClientRect();
        const y1 = Math.min(Math.max(box.top + box.height / 2, shown.top), shown.bottom) - base.top;
        const out = box.bottom < shown.top || box.top > shown.bottom;
        if (out && !open) continue;
        const x1 = shown.right - base.left, x2 = head.left - base.left, y2 = head.top + head.height / 2 - base.top;
        const bend = (x2 - x1) / 2;
        paths.push([open, `M${x1} ${y1}C${x1 + bend} ${y1} ${x2 - bend} ${y2} ${x2 - 5} ${y2}m-5 -4l5 4l-5 4`]);
      }
    }
    light(lit);
    paths.sort((a, b) => a[0] - b[0]);
    svg.innerHTML = paths.map(([open, d]) => `<path d="${d}"${open ? ' class="lit"' : ""}/>`).join("");
  }

  draw();
  showLit();
  if (new URLSearchParams(location.search).get("open")) inHand()?.scrollIntoView({ block: "center" });
  document.fonts?.ready.then(draw);
}

function guess(path) {
  const parts = path.match(/[A-Za-z_][A-Za-z0-9_]*/g) ?? ["value"];
  return parts.slice(-2).join("_").replace(/([a-z])([A-Z])/g, "$1_$2").toLowerCase();
}
