// The preview: always of the text as it stands.
import { fill } from "../mail_frames.js";
import { element } from "./parts.js";

const DARK = "@media (prefers-color-scheme: dark)";

export function preview(root, channel) {
  const broken = root.querySelector("[data-broken]");
  const lacking = root.querySelector("[data-lacking]");
  const frame = root.querySelector("iframe[data-preview]");
  const plain = root.querySelector("[data-plain]");
  let view = "wide";
  let seen = JSON.parse(root.querySelector("[data-seen]").textContent);

  function paint(now) {
    seen = now;
    broken.hidden = seen.made;
    broken.textContent = seen.problems.map((p) => `${p.what} ${p.hint}`).join(" ") || "There is nothing to show yet.";
    lacking.replaceChildren(...(seen.made ? seen.problems : []).map((p) => element("li", {}, `${p.what} ${p.hint}`)));
    for (const part of root.querySelectorAll("[data-to-whom]")) part.textContent = seen.to || "nobody yet";
    const wire = root.querySelector("[data-wire]");
    if (wire) {
      wire.textContent = seen.more.request ?? "";
      root.querySelector("[data-through]").textContent = seen.more.through ?? "";
    }
    if (channel === "email") mail();
    else if (channel === "sms") root.querySelector("[data-handset]").replaceChildren(seen.made
      ? element("div", { className: "said" }, seen.text) : "");
    else if (channel === "call") root.querySelector("[data-request]").textContent = seen.made
      ? `${seen.more.address ?? ""}${seen.text}` : "";
    else bubble();
  }

  function mail() {
    root.querySelector("[data-subject]").textContent = seen.subject || "no subject";
    root.querySelector("[data-size]").textContent = seen.made ? `${Math.max(1, Math.round(seen.bytes / 1024))} KB` : "";
    const files = root.querySelector("[data-files]");
    files.replaceChildren(...[...seen.files.map((f) => `with ${f}`),
      ...["cc", "bcc", "reply_to"].filter((p) => seen.more[p]).map((p) =>
      `${{ cc: "copy to", bcc: "hidden copy to", reply_to: "answers to" }[p]} ${seen.more[p]}`)].map((said) =>
      element("li", {}, said)));
    show();
  }

  function show() {
    const asText = view === "text" || view === "source";
    plain.hidden = !asText || !seen.made;
    frame.hidden = asText || !seen.made;
    if (asText) plain.textContent = view === "source" ? seen.html : seen.text;
    else if (seen.made) {
      const page = seen.html.replaceAll(DARK, view === "dark" ? "@media all" : "@media not all");
      if (frame.dataset.page !== page) fill(frame, page);
    }
    root.querySelector(".letter").classList.toggle("narrow", view === "narrow");
    root.querySelector(".letter").classList.toggle("dark", view === "dark");
    for (const button of root.querySelectorAll("[data-view]")) button.setAttribute("aria-pressed",
      String(button.dataset.view === view));
  }

  function bubble() {
    const holder = root.querySelector("[data-bubble]");
    if (!seen.made) return holder.replaceChildren();
    const { header, footer, buttons } = seen.more;
    const top = header.kind === "text" && header.text ? [element("strong", {}, header.text)]
      : ["image", "document"].includes(header.kind)
      ? [element("div", { className: "piece-of" }, header.kind === "image" ? "picture " : "document ",
      element("span", { className: "value" }, header.url))] : [];
    const ways = buttons.length
      ? [element("div", { className: "ways" }, ...buttons.map((b) =>
      element("span", {}, `${{ link: "↗ ", call: "☏ " }[b.kind] ?? ""}${b.text}`)))] : [];
    holder.replaceChildren(element("div", { className: "bubble" }, ...top, element("p", {}, seen.text),
      ...(footer ? [element("small", {}, footer)] : []), ...ways));
  }

  for (const button of root.querySelectorAll("[data-view]"))
    button.addEventListener("click", () => {
      view = button.dataset.view;
      show();
    });
  return { paint, first: () => paint(seen), plain: () => seen.text };
}
