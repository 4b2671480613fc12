// Keeps the draft: soon after each change, before the page is left, and loudly where it fails.
import { post } from "../request.js";

const token = () => document.querySelector("meta[name=csrf-token]")?.content ?? "";

export function saving({ address, state, given, shown, saved }) {
  let timer, running, waiting = false, known = given.known, flying, banner;

  async function run(force = false) {
    waiting = false;
    const mine = { ...state(), known, force };
    flying = JSON.stringify(mine.spec);
    let told;
    try {
      told = await post(address, mine);
    } catch (error) {
      return failed(error.message);
    }
    if (!told.saved) return failed(told.problems.map((p) => `${p.what} ${p.hint}`.trim()).join(" "), told.elsewhere);
    known = told.known;
    flying = undefined;
    clear();
    if (!timer && !waiting) saved("kept"); // otherwise there is more to keep than what was just kept
    shown(told);
    return true;
  }

  // One save at a time; a change meanwhile is followed by another.
  function now(force = false) {
    clearTimeout(timer);
    timer = undefined;
    if (running) {
      waiting = true;
      return running.then(() => (waiting ? now(force) : true));
    }
    running = run(force).finally(() => (running = null));
    return running;
  }

  function failed(why, elsewhere = false) {
    saved("failed");
    clear();
    banner = document.createElement("div");
    banner.className = "loud";
    banner.setAttribute("role", "alert");
    const said = document.createElement("p");
    said.innerHTML = "<strong>Not saved.</strong> ";
    said.append(why, elsewhere ? "" : " What you wrote is still on this page.");
    banner.append(said);
    const act = (words, run) => {
      const button = Object.assign(document.createElement("button"),
        { type: "button", className: "button small", textContent: words });
      button.addEventListener("click", run);
      banner.append(button);
    };
    if (elsewhere) {
      act("Load that one", () => location.reload());
      act("Keep mine", () => now(true));
    } else {
      act("Try again", () => now());
      timer = setTimeout(() => now(), 4000);
    }
    document.body.append(banner);
    return false;
  }

  function clear() {
    banner?.remove();
    banner = undefined;
  }

  // Whoever leaves while something is still to be kept has it kept. A save that is under way may come before or after
  // this one: `after` is what it holds.
  window.addEventListener("pagehide", () => {
    if (!timer && !waiting && !running) return;
    fetch(address, { method: "POST", keepalive: true, headers: { "Content-Type": "application/json",
      "X-CSRFToken": token(), "X-Fragment": "1" }, body: JSON.stringify({ ...state(), known, after: flying
      && JSON.parse(flying) }) });
  });

  return {
    changed() {
      saved("writing");
      clearTimeout(timer);
      timer = setTimeout(() => now(), 160);
    },
    now,
    get following() {
      return Boolean(timer || waiting);
    },
    get pending() {
      return Boolean(timer || running);
    },
  };
}
