// Many sends at once: what is ticked, or all that the filter shows, a part at a time with its progress.
import { post } from "./request.js";
import { say } from "./toast.js";

export function start(form) {
  const list = document.getElementById("list");
  const said = form.querySelector("[data-ticked]");
  const all = form.querySelector("[data-all]");
  const progress = form.querySelector("[data-progress]");
  const boxes = () => [...list.querySelectorAll("input[name=send]")];
  const chosen = new Set(); // kept apart from the page, whose rows come anew while it is looked at

  function show() {
    for (const box of boxes()) box.checked = chosen.has(box.value);
    const number = chosen.size;
    form.hidden = !number && !all?.checked;
    said.textContent = all?.checked ? "All of them" : number === 1 ? "1 ticked" : `${number} ticked`;
    const whole = list.querySelector("[data-tick-all]");
    if (whole) whole.checked = boxes().length > 0 && boxes().every((box) => box.checked);
  }

  document.addEventListener("change", (event) => {
    const box = event.target;
    if (box.form !== form) return;
    if (box.matches("[data-tick-all]"))
      for (const one of boxes()) box.checked ? chosen.add(one.value) : chosen.delete(one.value);
    else if (box.name === "send") box.checked ? chosen.add(box.value) : chosen.delete(box.value);
    show();
  });
  new MutationObserver(show).observe(list, { childList: true });

  form.addEventListener("submit", async (event) => {
    event.preventDefault();
    const act = event.submitter?.value ?? "retry";
    const words = { retry: "on the way again", hold: "held", cancel: "cancelled" }[act] ?? act;
    for (const button of form.querySelectorAll("button")) button.disabled = true;
    progress.hidden = false;
    const whole = all?.checked ? Number(all.dataset.all) || 1 : chosen.size;
    let seen = 0, moved = 0, after = "";
    try {
      do {
        const part = new FormData(form);
        part.set("act", act);
        part.set("after", after);
        part.delete("send");
        if (!all?.checked) for (const id of chosen) part.append("send", id);
        const told = await post(form.action, part);
        seen += told.seen;
        moved += told.moved;
        after = told.next;
        progress.value = Math.min(1, seen / whole);
        said.textContent = `${seen.toLocaleString()} looked at`;
      } while (after);
      const late = seen > moved ? ` ${(seen - moved).toLocaleString()} had moved on meanwhile.` : "";
      const told = `${moved.toLocaleString()} ${moved === 1 ? "send is" : "sends are"} ${words}.${late}`;
      sessionStorage.setItem("angelon.bulk", told);
      location.reload();
    } catch (error) {
      say(`${moved.toLocaleString()} done. ${error.message}`, true);
      for (const button of form.querySelectorAll("button")) button.disabled = false;
    }
  });

  const told = sessionStorage.getItem("angelon.bulk");
  sessionStorage.removeItem("angelon.bulk");
  if (told) say(told);
  chosen.clear();
  for (const box of boxes()) if (box.checked) chosen.add(box.value);
  show();
}
