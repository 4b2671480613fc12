// The conditions of a segment: each change is kept at once, and the page shows whom it takes in.
import { conditions } from "./conditions.js";
import { post } from "./talk.js";
import { say } from "./toast.js";

export function start(root) {
  const build = () => root.querySelectorAll("form[data-conditions]").forEach((form) => conditions(form, () => keep(form)));
  async function keep(form) {
    const mark = document.activeElement?.dataset?.mark ?? "";
    try {
      root.innerHTML = await post(root.dataset.to, new FormData(form));
    } catch (error) {
      return say(error.message, true);
    }
    build();
    if (mark) root.querySelector(`[data-mark="${mark}"]`)?.focus();
  }
  root.addEventListener("submit", (event) => {
    if (event.target.matches("[data-conditions]")) event.preventDefault();
  });
  build();
}
