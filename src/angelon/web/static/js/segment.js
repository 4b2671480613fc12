// The conditions of a segment: each change is kept at once, and the page shows whom it takes in.
import { conditions } from "./conditions.js";
import { post } from "./request.js";
import { say } from "./toast.js";

export function start(root) {
  const build = () => root.querySelectorAll("form[data-conditions]").forEach((form) =>
    conditions(form, () => keep(form)));
  let sending = false;
  let changed = false;
  async function keep(form) {
    changed = true;
    if (sending) return; // what changes meanwhile is sent when the answer, then out of date, is there
    sending = true;
    try {
      let page = "";
      while (changed) {
        changed = false;
        const data = new FormData(form);
        data.set("edits", root.querySelector("[data-edits]").dataset.edits);
        page = await post(root.dataset.to, data);
        root.querySelector("[data-edits]").dataset.edits = page.match(/data-edits="(\d+)"/)[1];
      }
      const { mark = "", value = "" } = { mark: document.activeElement?.dataset?.mark,
        value: document.activeElement?.value };
      root.innerHTML = page;
      build();
      const same = mark && root.querySelector(`[data-mark="${mark}"]`);
      if (same) {
        if (same.matches("input[type=text], input:not([type]), textarea") && same.value !== value) {
          same.value = value; // typed and not left yet: what a script sets makes no change event when it is left
          same.addEventListener("blur", () => same.dispatchEvent(new Event("change", { bubbles: true })),
            { once: true });
        }
        same.focus();
      }
    } catch (error) {
      say(error.message, true);
    } finally {
      sending = false;
    }
  }
  root.addEventListener("submit", (event) => {
    if (event.target.matches("[data-conditions]")) event.preventDefault();
  });
  build();
}
