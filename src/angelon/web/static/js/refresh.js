// Keeps a part of a page current while the page is looked at: told by the tab's one stream, or else looking by itself.
// What is being read does not move: further down the page, newer rows wait behind a button.
import { sheets } from "./mail_frames.js";

const steady = (html) => html.replace(/name="csrf_token" value="[^"]*"/g, "");
const READING = 160; // pixels from the top, from which on somebody is reading

export function start(element) {
  const every = Number(element.dataset.every ?? 2000);
  let last = element.querySelector("iframe") ? null : steady(element.innerHTML);
    // a sheet that was fitted is not as it came
  let waiting = null;
  const button = document.createElement("button");
  button.type = "button";
  button.className = "button newer";
  button.textContent = "There is something newer: show it";
  button.hidden = true;
  button.addEventListener("click", () => {
    put(waiting);
    scrollTo({ top: 0 });
  });
  element.before(button);

  function put(html) {
    if (html === null) return;
    element.innerHTML = html;
    sheets();
    waiting = null;
    button.hidden = true;
  }

  // What somebody has ticked or typed here is not taken away.
  const touched = () =>
    [...element.querySelectorAll("input, textarea")].some((one) =>
      one.type === "checkbox" || one.type === "radio" ? one.checked !== one.defaultChecked
        : one.value !== one.defaultValue);

  let lookedAt = 0;
  let due = 0;
  function told() {
    // at most once in `every`, however much is stored
    due ||= setTimeout(() => ((due = 0), look()), Math.max(0, lookedAt + every - performance.now()));
  }

  async function look() {
    lookedAt = performance.now();
    if (document.hidden || element.contains(document.activeElement)) return;
    const answer = await fetch(location.href, { headers: { Accept: "text/html" } }).catch(() => null);
    if (!answer?.ok) return;
    const fresh = new DOMParser().parseFromString(await answer.text(), "text/html").getElementById(element.id);
    if (!fresh) return;
    const now = steady(fresh.innerHTML);
    if (last !== null && now !== last) {
      if (element.dataset.keeps !== undefined && (scrollY > READING || touched())) {
        waiting = fresh.innerHTML;
        button.hidden = false;
      } else put(fresh.innerHTML);
    }
    last = now;
  }

  let timer = 0;
  const byItself = () => (timer ||= setInterval(look, every));
  const stream = element.dataset.keeps === undefined ? null
    : new EventSource(`${document.documentElement.dataset.root ?? ""}/live`);
  if (!stream) return byItself();
  let lost = false;
  stream.addEventListener("changed", told);
  stream.addEventListener("open", () => lost && ((lost = false), look()));
  stream.addEventListener("error", () => {
    lost = true;
    if (stream.readyState === EventSource.CLOSED) byItself(); // too many tabs are told just now
  });
  document.addEventListener("visibilitychange", look);
  addEventListener("pagehide", () => stream.close());
}
