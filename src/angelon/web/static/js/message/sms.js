// An SMS as it is written: what it takes, what it costs, which signs make it dear, how long real orders make it.
import { button, element } from "./parts.js";

export function sms(root, page) {
  const { text, make } = page;
  const editor = make(root.querySelector("[data-field=text]"), "text", text.text ?? "",
    { label: "SMS text", hint: "Write the text. {{ opens the list of variables.", write: (now) => (text.text = now) });
  const meter = root.querySelector("[data-meter]");
  page.onSeen((seen) => {
    const more = seen.more;
    if (!seen.made || !more.encoding) return meter.replaceChildren();
    const bars = Array.from({ length: more.segments }, (_, at) => {
      const last = at === more.segments - 1;
      const bar = element("span", { className: "segment" }, element("i"));
      bar.firstChild.style.width = `${last ? Math.max(4, 100 - (100 * more.left) / more.room) : 100}%`;
      return bar;
    });
    const over = more.cap && more.segments > more.cap;
    meter.replaceChildren(
      element("div", { className: `bars${over ? " over" : ""}` }, ...bars),
      element("p", {}, element("strong", {}, `${more.segments} ${more.segments === 1 ? "segment" : "segments"}`),
        ` in ${more.encoding}, ${more.left} left${more.cost ? `, ${more.cost}` : ""}`, over
        ? element("span", { className: "bad" }, ` · more than the ${more.cap} that the gateway allows`) : ""),
      ...(more.forced.length ? [forced(more.forced)] : []),
      ...(more.spread.length ? [spread(more.spread)] : []),
    );
  });

  function forced(signs) {
    const own = signs.filter((s) => (text.text ?? "").includes(s.sign));
    const elsewhere = own.length < signs.length ? " (some of it from values)" : "";
    const which = signs.map((s) => `“${s.sign}”`).join(", ");
    const line = element("p", { className: "wait" }, `UCS-2 because of ${which}${elsewhere}. `);
    const mendable = own.filter((s) => s.instead);
    if (mendable.length)
      line.append(
        button(`Write ${mendable.map((s) => `“${s.instead}”`).join(", ")} instead`, () =>
          editor.swap(mendable.reduce((now, s) => now.replaceAll(s.sign, s.instead),
          text.text)), { className: "button small" }),
      );
    return line;
  }

  function spread(rows) {
    const table = element("table", { className: "rows spread" });
    table.innerHTML = "<caption>With real orders</caption><tbody></tbody>";
    table.tBodies[0].append(
      ...rows.map((row) =>
        element("tr", {},
          element("td", {}, row.label),
          element("td", { className: "value" }, row.with),
          element("td", { className: "n" }, `${row.units} units`),
          element("td", { className: "n" }, `${row.segments} ${row.segments === 1 ? "segment" : "segments"}`),
          element("td", { className: "n" }, row.cost),
        ),
      ),
    );
    return table;
  }
}
