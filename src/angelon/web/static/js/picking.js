// Puts the path of a field of an answer where it belongs in the form, and marks which is chosen.
export function start(element) {
  const chosen = () => {
    for (const button of element.querySelectorAll("[data-pick]")) {
      const field = document.querySelector(`[name="${button.dataset.pick}"]`);
      button.setAttribute("aria-pressed", String(field?.value === button.dataset.path));
    }
  };
  element.addEventListener("click", (event) => {
    const button = event.target.closest("[data-pick]");
    const field = button && document.querySelector(`[name="${button.dataset.pick}"]`);
    if (!field) return;
    field.value = field.value === button.dataset.path ? "" : button.dataset.path;
    field.dispatchEvent(new Event("input", { bubbles: true }));
    chosen();
  });
  document.addEventListener("input", chosen);
  chosen();
}
