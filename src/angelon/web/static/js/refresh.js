// Keeps a part of a page current by fetching it again while the page is looked at.
import { sheets } from "./mail_frames.js";

const steady = (html) => html.replace(/name="csrf_token" value="[^"]*"/g, "");

export function start(element) {
  const every = Number(element.dataset.every ?? 2000);
  let last = element.querySelector("iframe") ? null : steady(element.innerHTML);
    // a sheet that was fitted is not as it came
  setInterval(async () => {
    if (document.hidden || element.contains(document.activeElement)) return;
    const answer = await fetch(location.href, { headers: { Accept: "text/html" } }).catch(() => null);
    if (!answer?.ok) return;
    const fresh = new DOMParser().parseFromString(await answer.text(), "text/html").getElementById(element.id);
    if (!fresh) return;
    const now = steady(fresh.innerHTML);
    if (last !== null && now !== last) {
      element.innerHTML = fresh.innerHTML;
      sheets();
    }
    last = now;
  }, every);
}
