// The picture of when a failed send is tried again, drawn anew while its numbers are typed.
import { settled } from "./request.js";

export function start(element) {
  const drawn = element.querySelector("[data-drawn]");
  const draw = settled(async (signal) => {
    const asked = new URLSearchParams();
    for (const field of element.querySelectorAll("[name^='retry.']")) asked.set(field.name, field.value);
    const answer = await fetch(`${element.dataset.from}?${asked}`, { signal });
    if (answer.ok) drawn.innerHTML = await answer.text();
  });
  element.addEventListener("input", draw);
}
