// Starts the behaviours that a page asks for by its data attributes, and the keys that every page has.
import { theme } from "./theme.js";
import { find } from "./find.js";
import { keys } from "./keys.js";
import { copying } from "./copying.js";
import { sheets } from "./mail_frames.js";
import { unsaved } from "./unsaved.js";

const behaviours = {
  capture: () => import("./capture.js"),
  mapping: () => import("./mapping.js"),
  message: () => import("./message.js"),
  letterhead: () => import("./letterhead.js"),
  sentence: () => import("./sentence.js"),
  progress: () => import("./progress.js"),
  segment: () => import("./segment.js"),
  refresh: () => import("./refresh.js"),
  drawn: () => import("./drawn.js"),
  start: () => import("./start.js"),
  bulk: () => import("./bulk.js"),
  picking: () => import("./picking.js"),
};

theme();
keys();
find();
copying();
sheets();
unsaved();
if (matchMedia("(max-width: 900px)").matches)
  for (const fold of document.querySelectorAll("[data-closed-on-phones]"))
    fold.open = !!fold.querySelector("input:checked");
for (const element of document.querySelectorAll("[data-behaviour]")) {
  behaviours[element.dataset.behaviour]?.().then((module) => {
    module.start(element);
    element.dataset.started = "";
  });
}
document.addEventListener("change", (event) => {
  const form = event.target.closest("form[data-sends-itself]");
  if (form && (event.target.form ?? form) === form) form.requestSubmit();
});
document.addEventListener("change", (event) => {
  const list = event.target.closest("select[data-adds-to]");
  const field = list?.value && list.form.elements[list.dataset.addsTo];
  if (!field) return;
  field.value = [...new Set([...field.value.split(/[\s,]+/), list.value].filter(Boolean))].join(" ");
  list.value = "";
  field.dispatchEvent(new Event("input", { bubbles: true }));
});
