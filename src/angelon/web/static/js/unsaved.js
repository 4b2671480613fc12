// Asks before a page is left with something typed that is not saved. Pages that save each change by themselves are left
// out, and so is the form that is being sent.
const SAVED_AT_ONCE = ["message", "sentence", "segment", "start"].map((name) => `[data-behaviour=${name}]`).join();
const NOT_KEPT = "[data-edit], [data-try], [data-sends-itself]";

export function unsaved() {
  let sent = null;
  document.addEventListener("submit", (event) => {
    sent = event.defaultPrevented ? null : event.target;
  });
  addEventListener("pageshow", () => { sent = null; });
  addEventListener("beforeunload", (event) => {
    const refused = document.querySelector("[data-not-saved]") !== null;
    const lost = [...document.querySelectorAll("main form[method=post]")].filter((form) => form !== sent
      && !form.matches(NOT_KEPT) && !form.closest(SAVED_AT_ONCE) && [...form.elements].some(changed));
    if (lost.length || (refused && !sent)) event.preventDefault();
  });
}

function changed(field) {
  if (!field.name || field.disabled || field.type === "hidden") return false;
  if (field.type === "checkbox" || field.type === "radio") return field.checked !== field.defaultChecked;
  if (field.type === "file") return field.files.length > 0;
  if (field.tagName === "SELECT") {
    const options = [...field.options];
    const first = options.some((option) => option.defaultSelected) ? -1 : 0;
    const chosenAtFirst = (option, at) => option.defaultSelected || (!field.multiple && at === first);
    return options.some((option, at) => option.selected !== chosenAtFirst(option, at));
  }
  return field.defaultValue !== undefined && field.value !== field.defaultValue;
}
