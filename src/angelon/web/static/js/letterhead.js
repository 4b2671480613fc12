// A change of the letterhead, seen at once on every message; nothing is kept until it is asked for.
import { fill } from "./mail_frames.js";
import { testSend } from "./message/test_send.js";
import { post, settled } from "./request.js";

export function start(root) {
  const form = root.querySelector("form");
  for (const swatch of root.querySelectorAll("[data-swatch]")) {
    const written = form.elements[swatch.dataset.swatch];
    swatch.addEventListener("input", () => ((written.value = swatch.value), look()));
    written.addEventListener("input", () => /^#[0-9a-f]{6}$/i.test(written.value) && (swatch.value = written.value));
  }
  form.addEventListener("input", () => look());
  form.addEventListener("change", () => look());
  const saved = written();
  testSend(root, async () => {
    if (written() !== saved) throw new Error("Not sent: save the letterhead first. A test carries what is saved.");
    return true;
  });
  const which = root.querySelector("[data-which]");
  which?.addEventListener("change", () => {
    which.form.action = which.value;
    which.form.elements.locale.value = which.selectedOptions[0].dataset.locale;
  });
  const frames = [...root.querySelectorAll("[data-sheet]")];
  const fit = () => frames.forEach((frame) =>
    (frame.style.transform = `scale(${frame.parentElement.clientWidth / 640})`));
  new ResizeObserver(fit).observe(root);
  fit();

  const look = settled(async (signal) => {
    const body = new FormData(form);
    body.delete("logo_file");
    const judged = root.querySelector("[data-judged]");
    let told;
    try {
      told = await post(root.dataset.seen, body, { signal });
    } catch (error) {
      if (error.name === "AbortError") throw error;
      judged.replaceChildren(Object.assign(document.createElement("span"),
        { className: "bad", textContent: error.message }));
      return;
    }
    if (told.problems.length) {
      judged.replaceChildren(Object.assign(document.createElement("span"),
        { className: "bad", textContent: told.problems.map((p) => `${p.what} ${p.hint}`).join(" ") }));
      return;
    }
    const { paper, button, text, enough } = told.judged;
    judged.replaceChildren(
      Object.assign(document.createElement("span"), { className: Math.min(paper, text) >= enough ? "good" : "wait",
        textContent: `Contrast of the accent on the body ${paper}, in a button ${button}, of text ${text}` }),
      Object.assign(document.createElement("span"), { className: "quiet", textContent: `; ${enough} is needed.` }),
    );
    for (const frame of frames) {
      const page = told.sheets[frame.dataset.sheet];
      if (page !== undefined && frame.dataset.page !== page) fill(frame, page);
    }
  }, 120);

  function written() {
    return JSON.stringify([...new FormData(form)].map(([name, value]) => [name, value.name ?? value]));
  }
}
