// A route's sentence: a choice in any part is kept at once, and the rehearsal beside it follows.
import { conditions } from "./conditions.js";
import { post } from "./talk.js";
import { fit } from "./sandboxed.js";
import { say } from "./toast.js";

const HOURS = ["timing.start", "timing.end", "timing.weekdays", "timing.no_holidays"];

export function start(root) {
  let before = Promise.resolve();
  const keep = (form, stayOpen) => (before = before.then(() => kept(form, stayOpen)));
  const kept = async (form, stayOpen) => {
    if (!root.contains(form)) return; // an answer has taken its place meanwhile, with what it said
    const parts = [...root.querySelectorAll(".slot")];
    const at = parts.indexOf(form.closest(".slot"));
    const focused = document.activeElement?.closest("form") === form ? `${document.activeElement.name}|${document.activeElement.value}` : "";
    const mark = document.activeElement?.dataset?.mark ?? "";
    try {
      root.innerHTML = await post(root.dataset.to, new FormData(form));
    } catch (error) {
      return say(error.message, true);
    }
    root.querySelectorAll("iframe[data-fit]").forEach(fit);
    build();
    const slot = root.querySelectorAll(".slot")[at];
    if (!slot) return;
    slot.open = stayOpen;
    const again = stayOpen && ([...slot.querySelectorAll("input, select")].find((input) => `${input.name}|${input.value}` === focused) ?? (mark && slot.querySelector(`[data-mark="${mark}"]`)));
    (again || slot.querySelector("summary")).focus();
  };
  const build = () => root.querySelectorAll("form[data-conditions]").forEach((form) => conditions(form, () => keep(form, true)));
  build();
  let timer;
  root.addEventListener("change", (event) => {
    const form = event.target.closest("[data-part]");
    if (!form || form.matches("[data-conditions]") || event.target.name === "own_type") return;
    if (HOURS.includes(event.target.name)) form.elements["timing.windowed"].checked = true; // whoever sets hours means them
    if (event.target.name === "once_days") form.elements.once.value = "customer";
    clearTimeout(timer);
    timer = setTimeout(() => keep(form, true), event.target.matches("select") ? 350 : 0); // a list gone through by keys changes with every key
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
