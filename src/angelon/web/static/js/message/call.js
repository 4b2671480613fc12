// A request to another system: method, path behind the gateway's address, headers and body.
import { element } from "./parts.js";

const JSON_TYPE = "application/json";

export function call(root, page) {
  const { text, make, changed } = page;
  const formed = new Set(["number", "money", "date"]);
  const types = Object.fromEntries(page.variables.map((variable) => [variable.name, variable.type]));
  const spelled = (name) => `{{ ${name} | ${formed.has(types[name]) ? "plain | " : ""}${
    text.content_type === JSON_TYPE ? "json" : "urlencode"} }}`;
  select("method", (now) => (text.method = now));
  select("content_type", (now) => (text.content_type = now));
  make(root.querySelector("[data-field=path]"), "path", text.path ?? "", { label: "Path", oneLine: true,
    hint: "/orders/{{ order_reference }}/tags", write: (now) => (text.path = now) });
  make(root.querySelector("[data-field=body]"), "body", text.body ?? "", { label: "Body", spelled,
    hint: "Empty where nothing is sent along.", write: (now) => (text.body = now) });
  const keeps = root.querySelector("[data-call-keep-answer]");
  keeps.checked = Boolean(text.keep_answer);
  keeps.addEventListener("change", () => ((text.keep_answer = keeps.checked), changed()));
  const headers = root.querySelector("[data-call-headers]");
  headers.value = Object.entries(text.headers ?? {}).map(([name, value]) => `${name}: ${value}`).join("\n");
  const said = element("p", { className: "bad", role: "alert", hidden: true });
  headers.after(said);
  headers.addEventListener("input", () => {
    const lines = headers.value.split("\n").filter((line) => line.trim());
    const wrong = lines.find((line) => !line.includes(":") || !line.split(":")[0].trim());
    said.hidden = !wrong;
    said.textContent = wrong ? `“${wrong}” is no header: write Name: value. It is not saved.` : "";
    if (wrong) return;
    text.headers = Object.fromEntries(lines.map((line) => {
      const at = line.indexOf(":");
      return [line.slice(0, at).trim(), line.slice(at + 1).trim()];
    }));
    changed();
  });

  function select(name, write) {
    const chosen = root.querySelector(`[data-call-${name.replace("_", "-")}]`);
    chosen.value = text[name];
    chosen.addEventListener("change", () => (write(chosen.value), changed()));
  }
}
