// Something that takes a while: shows how far it is, then what came of it. The server answers a line of JSON a step.
import { sheets } from "./mail_frames.js";

export async function start(element) {
  const bar = element.querySelector("progress");
  const count = element.querySelector("[data-count]");
  try {
    const answer = await fetch(element.dataset.from);
    if (!answer.ok) throw new Error(`The server answered ${answer.status}.`);
    const reader = answer.body.pipeThrough(new TextDecoderStream()).getReader();
    let rest = "";
    for (;;) {
      const { value, done } = await reader.read();
      if (done) break;
      const lines = (rest + value).split("\n");
      rest = lines.pop();
      for (const line of lines) {
        const told = JSON.parse(line);
        if (told.html !== undefined) {
          element.innerHTML = told.html;
          sheets();
          return;
        }
        bar.max = Math.max(told.of, 1);
        bar.value = told.done;
        count.textContent = `${told.done.toLocaleString()} of ${told.of.toLocaleString()}`;
      }
    }
    throw new Error("The answer ended too early.");
  } catch (error) {
    element.innerHTML = '<div class="alert bad-news" role="alert"></div>';
    element.firstChild.textContent = `It did not come to an end: ${error.message} Reload the page to try again.`;
  }
}
