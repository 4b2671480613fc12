// Speaks with the server: JSON out, JSON or a page's fragment back. A failure is an Error that says what to do.
const token = () => document.querySelector("meta[name=csrf-token]")?.content ?? "";

export async function post(address, body, { signal } = {}) {
  const form = body instanceof FormData;
  let answer;
  try {
    answer = await fetch(address, {
      method: "POST",
      signal,
      headers: { "X-CSRFToken": token(), "X-Fragment": "1", ...(form ? {} : { "Content-Type": "application/json" }) },
      body: form ? body : JSON.stringify(body),
    });
  } catch (error) {
    if (error.name === "AbortError") throw error;
    throw new Error(
      "The server can't be reached. What you wrote stays on this page; it is tried again when you change something.",
    );
  }
  const kind = answer.headers.get("Content-Type") ?? "";
  const told = kind.includes("json") ? await answer.json() : await answer.text();
  if (!answer.ok && !(told && told.problems)) {
    throw new Error(told?.detail ?? `The server answered ${answer.status}. Reload the page and try again.`);
  }
  return told;
}

// Calls `run` when nothing has changed for `wait` ms; a newer call ends an older one.
export function settled(run, wait = 250) {
  let timer, controller;
  return (...given) => {
    clearTimeout(timer);
    timer = setTimeout(() => {
      controller?.abort();
      controller = new AbortController();
      Promise.resolve(run(controller.signal, ...given)).catch((error) => {
        if (error.name !== "AbortError") throw error;
      });
    }, wait);
  };
}
