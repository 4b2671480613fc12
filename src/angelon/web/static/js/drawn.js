// What follows from some fields of a form, drawn anew by the server while they are typed.
import { settled } from "./request.js";

export function start(element) {
  const drawn = element.querySelector("[data-drawn]");
  const draw = settled(async (signal) => {
    const asked = new URLSearchParams();
    for (const field of element.querySelectorAll(element.dataset.fields)) asked.set(field.name, field.value);
    const answer = await fetch(`${element.dataset.from}?${asked}`, { signal });
    if (answer.ok) drawn.innerHTML = await answer.text();
  });
  element.addEventListener("input", draw);
}
