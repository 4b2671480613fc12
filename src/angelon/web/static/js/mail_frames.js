// Mails shown in frames that can run nothing: each is put into an empty document with a policy of its own, and is as
// tall as what it holds needs, up to a bound.
const ROOT = document.documentElement.dataset.root ?? "";
const FRAME = `${ROOT}/mail-frame`;

export function sheets(root = document) {
  for (const frame of root.querySelectorAll("iframe[data-page]")) fill(frame);
}

export function fill(frame, page = frame.dataset.page) {
  frame.dataset.page = page;
  if (!frame.dataset.filled) {
    frame.dataset.filled = "soon";
    frame.addEventListener("load", () => write(frame));
  }
  write(frame);
}

function write(frame) {
  const shown = frame.contentDocument;
  if (!shown || shown.location.pathname !== FRAME || shown.readyState === "loading") return;
  const page = frame.dataset.page;
  const opening = page.match(/<html\b[^>]*>/i)?.[0] ?? "";
  for (const name of ["lang", "dir"]) {
    const value = opening.match(new RegExp(`\\s${name}="([^"]*)"`, "i"))?.[1];
    if (value) shown.documentElement.setAttribute(name, value);
  }
  const scrolled = frame.contentWindow.scrollY;
  shown.documentElement.innerHTML = fetchedHere(page);
  frame.contentWindow.scrollTo(0, scrolled);
  frame.dataset.filled = "true";
  if (!("fit" in frame.dataset)) return;
  measure(frame);
  for (const picture of shown.images) picture.addEventListener("load", () => measure(frame));
}

// A picture at an address elsewhere is asked for through Angelon, which fetches it with care.
function fetchedHere(page) {
  return page.replace(/<img\b[^>]*>/gi, (tag) => tag.replace(/\ssrcset=("[^"]*"|'[^']*')/i, "")
    .replace(/(\ssrc=)("https?:\/\/[^"]*"|'https?:\/\/[^']*')/i, (_, name, src) =>
      `${name}"${ROOT}/mail-picture?src=${encodeURIComponent(src.slice(1, -1).replaceAll("&amp;", "&"))}"`));
}

function measure(frame) {
  const height = frame.contentDocument?.documentElement?.scrollHeight;
  if (height) frame.style.height = `${Math.min(Math.max(height, 180), 900)}px`;
}
