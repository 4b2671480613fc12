// A route's sentence: a choice in any part is kept at once, and the rehearsal beside it follows.
import { conditions } from "./conditions.js";
import { post } from "./request.js";
import { sheets } from "./mail_frames.js";
import { say } from "./toast.js";

const HOURS = ["timing.window.start", "timing.window.end", "timing.window.weekdays", "timing.no_holidays"];

export function start(root) {
  let before = Promise.resolve();
  let behind, pressed = 0;
  const keep = (form, stayOpen) => (before = before.then(() => kept(form, stayOpen)));
  const written = () => [...root.querySelectorAll("input, select, textarea")].map((one) =>
    (one.matches("[type=checkbox], [type=radio]") ? one.checked : one.value)).join("\n");
  const inList = () => root.contains(document.activeElement) && document.activeElement.matches("select");
  const kept = async (form, stayOpen) => {
    if (!root.contains(form)) return; // an answer has taken its place meanwhile, with what it said
    const sent = written();
    behind = undefined;
    let made;
    try {
      const data = new FormData(form);
      data.set("edits", root.querySelector("[data-edits]").dataset.edits);
        // of what this page knows; whoever is behind is told
      made = await post(root.dataset.to, data);
      root.querySelector("[data-edits]").dataset.edits = made.match(/data-edits="(\d+)"/)[1];
    } catch (error) {
      return say(error.message, true);
    }
    while (inList() && performance.now() - pressed < 1000) await new Promise((go) => setTimeout(go, 100));
      // words typed in a list are one, until a second has gone by
    if (!root.contains(form)) return;
    if (written() !== sent) return void (behind = form);
      // what is being written now stays; keeping that brings the page up to date
    const focus = root.contains(document.activeElement) ? document.activeElement : null;
    const focused = focus?.closest("form") ? `${focus.name}|${focus.value}` : "";
    const mark = focus?.dataset.mark ?? "";
    const slots = [...root.querySelectorAll(".slot")];
    const own = slots.indexOf(form.closest(".slot"));
    const now = slots.findIndex((slot) => slot.open);
    root.innerHTML = made;
    sheets(root);
    build();
    const slot = root.querySelectorAll(".slot")[now >= 0 ? now : own];
    if (!slot) return;
    slot.open = now >= 0 && (stayOpen || now !== own);
    if (!focus && document.activeElement !== document.body) return; // whoever is elsewhere by now stays there
    const again = slot.open
      && ([...slot.querySelectorAll("input, select, textarea")].find((input) =>
      `${input.name}|${input.value}` === focused) ?? (mark && slot.querySelector(`[data-mark="${mark}"]`)));
    (again || slot.querySelector("summary")).focus();
  };
  root.addEventListener("keydown", (event) => event.target.matches("select") && (pressed = performance.now()));
  root.addEventListener("focusout", () => setTimeout(() => behind && keep(behind, true), 500));
  const build = () => root.querySelectorAll("form[data-conditions]").forEach((form) =>
    conditions(form, () => keep(form, true)));
  build();
  let timer;
  root.addEventListener("change", (event) => {
    const form = event.target.closest("[data-part]");
    if (!form || form.matches("[data-conditions]") || event.target.name === "own_type") return;
    if (HOURS.includes(event.target.name)) form.elements["timing.windowed"].checked = true;
      // whoever sets hours means them
    if (event.target.name === "once_days") form.elements.once.value = "customer";
    clearTimeout(timer);
    timer = setTimeout(() => keep(form, true), event.target.matches("select") ? 350 : 0);
      // a list gone through by keys changes with every key
  });
  root.addEventListener("submit", (event) => {
    const form = event.target.closest("[data-part]");
    if (!form) return;
    event.preventDefault();
    keep(form, false);
  });
  root.addEventListener("toggle", (event) => {
    if (!event.target.matches?.(".slot") || !event.target.open) return;
    for (const other of root.querySelectorAll(".slot[open]")) if (other !== event.target) other.open = false;
  }, true);
}
