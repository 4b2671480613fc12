// A test send from the page: through the real gateway, its result shown where it was asked for.
import { post } from "../request.js";

export function testSend(root, before) {
  const form = root.querySelector("form[data-try]");
  if (!form) return;
  const result = root.querySelector("[data-tried]");
  const who = form.querySelector("[name=who]");
  const to = form.querySelector("[name=to]");
  who?.addEventListener("change", () => {
    if (who.value) to.value = who.value;
  });
  form.addEventListener("submit", async (event) => {
    event.preventDefault();
    const button = form.querySelector("button[type=submit]");
    button.disabled = true;
    result.textContent = "queued…";
    try {
      if (!(await before())) throw new Error("Not sent: the draft could not be saved.");
      const told = await post(form.action, new FormData(form));
      await follow(`${form.action}/${told.send}`);
    } catch (error) {
      result.innerHTML = "";
      result.append(Object.assign(document.createElement("p"), { className: "bad", textContent: error.message }));
    }
    button.disabled = false;
  });

  async function follow(address) {
    for (let look = 0; look < 60; look++) {
      const answer = await fetch(address, { headers: { "X-Fragment": "1" } });
      result.innerHTML = await answer.text();
      if (answer.headers.get("X-Settled") === "yes") return;
      await new Promise((done) => setTimeout(done, look < 10 ? 300 : 1500));
    }
  }
}
