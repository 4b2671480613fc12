// A route's sentence: a choice in any part is kept at once, and the rehearsal beside it follows.
import { post } from "./talk.js";
import { fit } from "./sandboxed.js";
import { say } from "./toast.js";

export function start(root) {
  const keep = async (form, stayOpen) => {
    const parts = [...root.querySelectorAll(".slot")];
    const at = parts.indexOf(form.closest(".slot"));
    const focused = document.activeElement?.closest("form") === form ? `${document.activeElement.name}|${document.activeElement.value}` : "";
    try {
      root.innerHTML = await post(root.dataset.to, new FormData(form));
    } catch (error) {
      return say(error.message, true);
    }
    root.querySelectorAll("iframe[data-fit]").forEach(fit);
    const slot = root.querySelectorAll(".slot")[at];
    if (!slot) return;
    slot.open = stayOpen;
    const again = stayOpen && [...slot.querySelectorAll("input")].find((input) => `${input.name}|${input.value}` === focused);
    (again || slot.querySelector("summary")).focus();
  };
  root.addEventListener("change", (event) => {
    const form = event.target.closest("[data-part]");
    if (form && event.target.name !== "own_type") keep(form, true);
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
