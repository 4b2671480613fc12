// Shows each delivery the moment it arrives, by server-sent events.
export function start(element) {
  const list = element.querySelector("[data-deliveries]");
  const state = element.querySelector("[data-capture-state]");
  const source = new EventSource(element.dataset.from);
  const told = state.lastChild;
  source.addEventListener("delivery", (event) => {
    const typed = [...document.querySelectorAll("form textarea, form [type=file]")].some((field) => field.value);
    if (list.querySelector("[data-nothing]") && !typed) return location.reload(); // what to do about the first is said
    list.querySelector("[data-nothing]")?.remove();
    for (const open of list.querySelectorAll("details.fresh")) open.open = false;
    list.insertAdjacentHTML("afterbegin", JSON.parse(event.data).html);
    told.textContent = "a delivery has arrived; waiting for the next";
  });
  source.addEventListener("error", () => (told.textContent = "the line is interrupted; trying again"));
  source.addEventListener("open", () => {
    if (told.textContent.startsWith("the line")) told.textContent = "waiting for the next delivery";
  });
  addEventListener("pagehide", () => source.close());
}
