// The keys of every page: / search, ? help, j and k through rows, Enter opens, Esc leaves, [ and ] the sample event,
// Ctrl+Enter the page's main action.
const typing = (element) => element?.closest("input, textarea, select, [contenteditable=true]");

export function keys() {
  const rows = () => [...document.querySelectorAll("[data-row]")];
  const help = document.querySelector("[data-keys-help]");
  document.addEventListener("keydown", (event) => {
    if (event.key === "Escape" && typing(event.target)) return event.target.blur();
    if ((event.ctrlKey || event.metaKey) && event.key === "Enter") {
      const main = document.querySelector("[data-main-action]");
      if (main) {
        event.preventDefault();
        main.click();
      }
      return;
    }
    if (event.ctrlKey || event.metaKey || event.altKey || typing(event.target)
      || document.querySelector("dialog[open]")) return;
    const act = {
      "/": () => document.querySelector("[data-find]")?.focus(),
      "?": () => help?.showModal(),
      j: () => step(rows(), 1),
      k: () => step(rows(), -1),
      "[": () => document.querySelector("[data-sample=previous]")?.click(),
      "]": () => document.querySelector("[data-sample=next]")?.click(),
      Escape: () => {
        const open = document.querySelector("details[open].slot, details[open].fold");
        if (open) {
          open.open = false;
          open.querySelector("summary").focus();
        } else document.querySelector("[data-back]")?.click();
      },
    }[event.key];
    if (act) {
      event.preventDefault();
      act();
    }
  });
  document.querySelector("[data-keys-open]")?.addEventListener("click", () => help?.showModal());
}

function step(rows, by) {
  if (!rows.length) return;
  const at = rows.findIndex((row) => row.contains(document.activeElement));
  const next = rows[Math.max(0, Math.min(rows.length - 1, at < 0 ? 0 : at + by))];
  (next.matches("a, button, summary") ? next : next.querySelector("a, button, summary"))?.focus();
  next.scrollIntoView({ block: "nearest" });
}
