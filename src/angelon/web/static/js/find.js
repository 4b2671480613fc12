// The box at the top: answers under it while one types; arrows move through them, Enter opens, Esc leaves.
import { settled } from "./request.js";

export function find() {
  const box = document.querySelector("[data-find]");
  if (!box) return;
  const form = box.form;
  const panel = document.createElement("div");
  panel.className = "answers sheet";
  panel.id = "find-answers";
  panel.hidden = true;
  form.append(panel);
  box.setAttribute("aria-controls", panel.id);
  const links = () => [...panel.querySelectorAll("a")];
  const show = (on) => {
    panel.hidden = !on;
    box.setAttribute("aria-expanded", String(on));
  };
  const ask = settled(async (signal) => {
    const words = box.value.trim();
    if (!words) return show(false);
    const answer = await fetch(`${form.action}?words=${encodeURIComponent(words)}`, {
      signal, headers: { "X-Fragment": "1" },
    }).catch(() => null);
    if (!answer?.ok || box.value.trim() !== words) return;
    panel.innerHTML = await answer.text();
    for (const row of panel.querySelectorAll("[data-row]")) row.removeAttribute("data-row");
    show(true);
  }, 120);
  box.addEventListener("input", () => ask());
  box.addEventListener("focus", () => panel.children.length && box.value.trim() && show(true));
  form.addEventListener("keydown", (event) => {
    const all = links();
    const at = all.indexOf(document.activeElement);
    if (event.key === "Escape") {
      show(false);
      box.focus();
    } else if (event.key === "ArrowDown" && all.length) {
      event.preventDefault();
      all[Math.min(at + 1, all.length - 1)].focus();
    } else if (event.key === "ArrowUp" && at >= 0) {
      event.preventDefault();
      (all[at - 1] ?? box).focus();
    }
  });
  document.addEventListener("click", (event) => !form.contains(event.target) && show(false));
  form.addEventListener("focusout", (event) => event.relatedTarget && !form.contains(event.relatedTarget)
    && show(false));
}
