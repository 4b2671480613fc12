// The message editor: one text, in one channel and language; the draft keeps itself, and the preview is of the text as
// it stands.
import { call } from "./message/call.js";
import { chat } from "./message/chat.js";
import { email } from "./message/email.js";
import { field } from "./message/field.js";
import { button, element } from "./message/parts.js";
import { saving } from "./message/saving.js";
import { preview } from "./message/preview.js";
import { sms } from "./message/sms.js";
import { testSend } from "./message/test_send.js";
import { say } from "./toast.js";

const json = (root, name) => JSON.parse(root.querySelector(`[data-${name}]`).textContent);

export function start(root) {
  const { channel, locale } = root.dataset;
  const spec = json(root, "spec");
  const variables = json(root, "variables");
  const text = spec[channel]?.[locale];
  const shown = preview(root, channel);
  const listeners = [];
  const fields = new Map();
  let last = null;
  const saved = root.querySelector("[data-saved]");
  const draft = saving({
    address: root.dataset.to,
    state: () => ({ spec, channel, locale }),
    given: { known: root.dataset.known },
    saved: (how) => {
      saved.textContent = { writing: "writing…", kept: "draft saved just now", failed: "not saved" }[how];
      saved.className = how === "failed" ? "bad" : "";
    },
    shown: (told) => {
      paint(told.preview);
      if (!draft.following) look();
    },
  });

  const page = {
    spec, text, variables, library: json(root, "library"), changed: draft.changed,
    addresses: { import: root.dataset.import, picture: root.dataset.picture },
    plain: shown.plain,
    onSeen: (listener) => listeners.push(listener),
    forget: (start) => {
      for (const [place, made] of fields)
        if (place === start || place.startsWith(`${start}.`)) {
          if (last === made) last = null;
          made.view.destroy();
          fields.delete(place);
        }
    },
    make: (into, place, value, { write, ...options }) => {
      into.dataset.place = place;
      const made = field({
        into, text: value, variables, ...options,
        changed: (now) => {
          write(now);
          draft.changed();
        },
        focused: () => (last = made),
        chosen: () => paint(kept),
      });
      fields.set(place, made);
      return made;
    },
    fieldAt: (place) => fields.get(place),
    offer,
  };

  let kept; // what came while a variable was being chosen: shown once the list is closed
  function paint(now) {
    if (!now) return;
    kept = !now.made && [...fields.values()].some((made) => made.choosing) ? now : null;
    if (kept) return;
    shown.paint(now);
    const here = `${channel}.${locale}.`;
    for (const [place, made] of fields) made.mark(now.problems.filter((p) => p.where === here + place
      || (p.where === place && place !== "")));
    for (const listener of listeners) listener(now);
  }

  if (text) {
    ({ email, sms, chat, call })[channel](root, page);
    paint(json(root, "seen"));
    inserts();
  } else shown.first();
  testSend(root, () => draft.now());
  const offers = root.querySelector("[data-download]");
  if (offers) {
    const number = (name) => root.querySelector(`[data-download-${name}]`);
    offers.checked = Boolean(spec.download);
    number("times").value = spec.download?.times ?? 5;
    number("days").value = spec.download?.days ?? 30;
    const keep = () => {
      const [times, days] = ["times", "days"].map((name) => Number(number(name).value));
      spec.download = offers.checked ? { times: times || 5, days: days || 30 } : null;
      draft.changed();
    };
    for (const one of [offers, number("times"), number("days")]) one.addEventListener("change", keep);
  }
  const gives = root.querySelector("[data-gives]");
  if (gives) {
    gives.value = spec.gives ?? "";
    gives.addEventListener("change", () => ((spec.gives = gives.value), draft.changed()));
  }
  const purpose = root.querySelector("[data-purpose]");
  const titled = root.querySelector("[data-titled]");
  const title = root.querySelector("[data-title]");
  purpose.value = spec.purpose;
  title.value = spec.title?.[locale] ?? "";
  purpose.addEventListener("change", () => ((spec.purpose = purpose.value),
    (titled.hidden = spec.purpose !== "optional"), draft.changed()));
  title.addEventListener("input", () => {
    spec.title = { ...spec.title, [locale]: title.value.trim() };
    if (!spec.title[locale]) delete spec.title[locale];
    draft.changed();
  });
  const goodFor = root.querySelector("[data-good-for]");
  goodFor.value = spec.good_for_hours;
  goodFor.addEventListener("input", () => ((spec.good_for_hours = Math.max(0, Math.round(Number(goodFor.value) || 0))),
    draft.changed()));
  const tellsOf = root.querySelector("[data-tells-of]");
  tellsOf.value = spec.tells_of;
  tellsOf.addEventListener("change", () => ((spec.tells_of = tellsOf.value), draft.changed()));

  // What would go wrong is asked for when the writing rests.
  let looking;
  function look() {
    clearTimeout(looking);
    looking = setTimeout(async () => {
      const answer = await fetch(`${root.dataset.preflight}?channel=${channel}&locale=${locale}`,
        { headers: { "X-Fragment": "1" } }).catch(() => null);
      if (answer?.ok) root.querySelector("[data-checks]").innerHTML = await answer.text();
    }, 250);
  }
  root.querySelector("[data-checks]").addEventListener("click", (event) => {
    const link = event.target.closest("a[data-go]");
    if (link && link.dataset.here === "yes" && go(link.dataset.go)) event.preventDefault();
  });
  if (location.hash) setTimeout(() => go(decodeURIComponent(location.hash.slice(1))), 50);

  // Takes the caret to a field of this page.
  function go(place) {
    const made = fields.get(place) ?? [...fields].find(([at]) => at.startsWith(`${place}.`)
      || place.startsWith(`${at}.`))?.[1];
    const other = root.querySelector(`[data-place="${CSS.escape(place)}"]`);
    const fold = (made?.view.dom ?? other)?.closest("details");
    if (fold) fold.open = true;
    if (made) {
      made.view.focus();
      made.view.dom.scrollIntoView({ block: "center" });
    } else if (other) {
      other.scrollIntoView({ block: "center" });
      (other.matches("input, button") ? other : other.querySelector("input, button, select, .cm-content"))?.focus();
    }
    return Boolean(made || other);
  }

  // ---- the list to insert from

  function inserts() {
    const list = root.querySelector("[data-inserts]");
    const find = root.querySelector("[data-find-variable]");
    const first = { email: "subject", sms: "text" }[channel] ?? "body";
    const into = () => (last && last.view.dom.isConnected ? last : fields.get(first));
    for (const variable of variables) {
      const row = button("", () => into()?.insert(into().spelled(variable.name)),
        { title: variable.about || variable.name, draggable: true });
      row.dataset.words = `${variable.name} ${variable.about} ${variable.value}`.toLowerCase();
      row.append(element("span", { className: "chip" }, variable.name),
        element("span", { className: "value" }, variable.value || (variable.required ? "no value in this event" : "")));
      row.addEventListener("mousedown", (event) => event.detail > 1 && event.preventDefault());
      row.addEventListener("dragstart", (event) => event.dataTransfer.setData("text/plain", `{{ ${variable.name} }}`));
      list.append(row);
    }
    find.addEventListener("input", () => {
      const words = find.value.toLowerCase().split(/\s+/).filter(Boolean);
      for (const row of list.children) row.hidden = !words.every((word) => row.dataset.words.includes(word));
    });
    find.addEventListener("keydown", (event) => {
      if (event.key === "Enter") [...list.children].find((row) => !row.hidden)?.click();
    });
    const select = root.querySelector("[data-condition]");
    select?.append(...variables.filter((v) => !v.name.includes(".")).map((v) => new Option(v.name, v.name)));
    select?.addEventListener("change", () => {
      if (select.value) into()?.wrap(`{% if ${select.value} %}`, "{% endif %}");
      select.value = "";
    });
    root.querySelector("[data-loop]")?.addEventListener("click", () =>
      into()?.insert("{% for line in order.lines %}{{ line.quantity }} × {{ line.name }}\n{% endfor %}"));
  }

  function offer(said, words, act) {
    document.querySelector(".toast")?.remove();
    const toast = element("div", { className: "toast" }, `${said} `);
    toast.append(button(words, () => (act(), toast.remove()), { className: "button small" }));
    document.body.append(toast);
    setTimeout(() => toast.remove(), 8000);
  }

  // Whatever leaves the page by a form or a link takes the last keystrokes along.
  root.addEventListener("submit", async (event) => {
    const form = event.target.closest("form[data-after-saving]");
    if (!form) return;
    event.preventDefault();
    if (await draft.now()) HTMLFormElement.prototype.submit.call(form);
    else say("Not done: the draft could not be saved.", true);
  });
  root.addEventListener("click", (event) => {
    const link = event.target.closest("a[href]");
    if (!link || event.defaultPrevented || event.ctrlKey || event.metaKey || !draft.pending
      || link.target === "_blank") return;
    event.preventDefault();
    draft.now().then((kept) => kept && location.assign(link.href));
  });

  // A text in review tells when it is decided.
  const review = root.querySelector("[data-review]");
  if (review) {
    const ask = async () => {
      if (!review.querySelector("[data-waiting]") || document.hidden) return;
      const answer = await fetch(`${root.dataset.reviewAt}?locale=${locale}`,
        { headers: { "X-Fragment": "1" } }).catch(() => null);
      if (!answer?.ok) return;
      review.innerHTML = await answer.text();
      if (!review.querySelector("[data-waiting]")) look();
    };
    setInterval(ask, 2500);
  }
  // What is chosen before there is anybody to keep it would be lost.
  for (const one of root.querySelectorAll("[data-late]")) one.disabled = false;
}
