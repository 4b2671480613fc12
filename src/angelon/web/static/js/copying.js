// Copies the text of what a button names, and says so.
import { say } from "./toast.js";

export function copying() {
  document.addEventListener("click", async (event) => {
    const button = event.target.closest("[data-copy]");
    if (!button) return;
    const source = document.querySelector(button.dataset.copy);
    const text = (source?.value ?? source?.textContent ?? "").trim();
    try {
      await navigator.clipboard.writeText(text);
      say("Copied");
    } catch {
      const range = document.createRange();
      range.selectNodeContents(source);
      getSelection().removeAllRanges();
      getSelection().addRange(range);
      say("Selected. Press Ctrl+C to copy");
    }
  });
}
