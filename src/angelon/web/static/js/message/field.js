// One text of a message: chips, a list to insert from, undo that outlives every save, and errors marked where they are.
import {
  Decoration, EditorState, EditorView, HighlightStyle, StreamLanguage, ViewPlugin, autocompletion,
  completionKeymap, completionStatus, defaultKeymap, history, historyKeymap, html, keymap, placeholder,
  setDiagnostics, syntaxHighlighting, tags,
} from "../../vendor/codemirror.js";
import { chips, partsOf } from "./chips.js";

const inkOfPages = HighlightStyle.define([
  { tag: tags.tagName, color: "var(--pine)" },
  { tag: tags.attributeName, color: "var(--sea)" },
  { tag: tags.string, color: "var(--ochre)" },
  { tag: tags.comment, color: "var(--ink-3)" },
]);

// `variables` are {name, value, about, required}; `changed` hears the text; `focused` that it has the caret; `chosen`
// that the list of variables was closed or the caret has left.
export function field({ into, text, label, hint = "", oneLine = false, page = false, rich = false, variables, changed,
  focused, chosen, spelled = (name) => `{{ ${name} }}` }) {
  const by = Object.fromEntries(variables.map((v) => [v.name, v]));
  const known = (name) => by[name] ?? (name === "order" || name === "loop" || /^(order|question)\./.test(name)
    ? { value: by[name]?.value } : undefined);
  const state = EditorState.create({
    doc: text,
    extensions: [
      EditorView.cspNonce.of(document.querySelector("[data-nonce]")?.dataset.nonce ?? ""),
      history(),
      chips(known),
      autocompletion({ override: [(context) => offers(context, variables, oneLine, spelled)], icons: false,
        defaultKeymap: true }),
      keymap.of([
        { key: "Ctrl-Enter", run: () => false },
        ...(oneLine ? [{ key: "Enter", run: () => true }] : []),
        { key: "Escape", run: (view) => (view.contentDOM.blur(), true) },
        ...completionKeymap, ...defaultKeymap.filter((k) => k.key !== "Mod-Enter"), ...historyKeymap,
      ]),
      oneLine ? EditorState.transactionFilter.of((t) => (t.docChanged && t.newDoc.lines > 1
        ? [{ changes: { from: 0, to: t.startState.doc.length, insert: t.newDoc.toString().replace(/\s*\n\s*/g, " ") },
        selection: { anchor: Math.min(t.newSelection.main.head, t.newDoc.length) } }] : t)) : [],
      EditorView.lineWrapping,
      rich ? [marked, keymap.of([{ key: "Mod-b", run: (view) => around(view, "**") },
        { key: "Mod-i", run: (view) => around(view, "_") }])] : [],
      page ? [StreamLanguage.define(html), syntaxHighlighting(inkOfPages)] : [],
      hint ? placeholder(hint) : [],
      EditorView.contentAttributes.of({ "aria-label": label, spellcheck: "true",
        ...(oneLine ? {} : { "aria-multiline": "true" }) }),
      EditorView.updateListener.of((update) => {
        if (update.docChanged) changed(update.state.doc.toString());
        if (update.focusChanged && update.view.hasFocus) focused?.();
        const listed = completionStatus(update.startState) === "active";
        if ((listed && completionStatus(update.state) !== "active") || (update.focusChanged && !update.view.hasFocus))
          setTimeout(() => chosen?.());
      }),
    ],
  });
  const view = new EditorView({ state, parent: into });
  view.dom.classList.toggle("page", page);
  return {
    view,
    label,
    spelled,
    get choosing() {
      return view.hasFocus && completionStatus(view.state) === "active";
    },
    insert(source) {
      const { from, to } = view.state.selection.main;
      view.focus();
      view.dispatch({ changes: { from, to, insert: source }, selection: { anchor: from + source.length },
        userEvent: "input.insert", scrollIntoView: true });
    },
    wrap(open, close) {
      const { from, to } = view.state.selection.main;
      view.focus();
      view.dispatch({ changes: [{ from, insert: open }, { from: to, insert: close }],
        selection: { anchor: to + open.length }, userEvent: "input.insert" });
    },
    around: (mark) => around(view, mark),
    linked() {
      const { from, to } = view.state.selection.main;
      const words = view.state.sliceDoc(from, to) || "words";
      view.focus();
      view.dispatch({ changes: { from, to, insert: `[${words}](https://)` },
        selection: { anchor: from + words.length + 11 }, userEvent: "input.mark" });
    },
    swap(text) {
      view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: text }, userEvent: "input.swap" });
    },
    mark(problems) {
      const found = problems.map((problem) => {
        const line = Number(problem.what.match(/^Line (\d+)/)?.[1] ?? 1);
        const quoted = problem.what.match(/“([^”]+)”/)?.[1];
        const whole = view.state.doc.toString();
        const at = quoted ? whole.indexOf(quoted) : -1;
        const row = view.state.doc.line(Math.min(line, view.state.doc.lines));
        const spot = at >= 0 ? { from: at, to: at + quoted.length } : { from: row.from, to: row.to };
        return { ...spot, severity: problem.severity, message: `${problem.what} ${problem.hint}`.trim() };
      });
      view.dispatch(setDiagnostics(view.state, found));
    },
  };
}

// Strong words look strong, the signs around them step back.
const SIGNS = new RegExp(
  [
    String.raw`(\*\*)(?=\S)([^*]+?)(?<=\S)(\*\*)`,
    String.raw`(?<![\w*])(_)(?=\S)([^_]+?)(?<=\S)(_)(?!\w)`,
    String.raw`(\[)([^\[\]\n]+)(\]\([^()\s]+\))`,
  ].join("|"),
  "g",
);
const look = (name) => Decoration.mark({ class: name });
const marked = ViewPlugin.fromClass(
  class {
    constructor(view) {
      this.decorations = this.find(view);
    }
    update(change) {
      if (change.docChanged || change.viewportChanged) this.decorations = this.find(change.view);
    }
    find(view) {
      const text = view.state.doc.toString();
      const chips = partsOf(text);
      const made = [];
      for (const m of text.matchAll(SIGNS)) {
        if (chips.some((c) => c.from < m.index && m.index < c.to)) continue;
        const [open, inner, close] = m[1] ? [m[1], m[2], m[3]] : m[4] ? [m[4], m[5], m[6]] : [m[7], m[8], m[9]];
        const start = m.index + open.length;
        const end = start + inner.length;
        made.push(look("sign").range(m.index, start), look(m[1] ? "strong" : m[4] ? "slanted" : "linked").range(start,
          end), look("sign").range(end, end + close.length));
      }
      return Decoration.set(made, true);
    }
  },
  { decorations: (plugin) => plugin.decorations },
);

function around(view, mark) {
  const { from, to } = view.state.selection.main;
  view.focus();
  view.dispatch({ changes: [{ from, insert: mark }, { from: to, insert: mark }],
    selection: { anchor: from + mark.length, head: to + mark.length }, userEvent: "input.mark" });
  return true;
}

// The list that opens on {{ or Ctrl+Space: variables with what they are now, and conditions and loops that close
// themselves.
function offers(context, variables, oneLine, spelled) {
  const typed = context.matchBefore(/\{[{%]?\s*(?:if |each )?[\w.]*/);
  const word = context.matchBefore(/[\w.]+/);
  if (!typed && !context.explicit) return null;
  const from = typed?.from ?? word?.from ?? context.pos;
  const put = (source, caret = source.length) => (view, _completion, start, end) =>
    view.dispatch({ changes: { from, to: Math.max(end, from), insert: source }, selection: { anchor: from + caret },
      userEvent: "input.complete" });
  const values = variables.map((v) =>
    ({ label: v.name, detail: v.value || (v.required ? "no value in this event" : ""), info: v.about || undefined,
    type: "variable", boost: v.value ? 1 : 0, apply: put(spelled(v.name)) }));
  const blocks = variables
    .filter((v) => !v.name.includes("."))
    .map((v) => ({ label: `if ${v.name}`, detail: "shown only where it has a value", type: "keyword", boost: -20,
      apply: put(`{% if ${v.name} %}{% endif %}`, `{% if ${v.name} %}`.length) }));
  const loops = oneLine ? []
    : [{ label: "each order.lines", detail: "once for each line of the order", type: "keyword", boost: -10,
    apply: put("{% for line in order.lines %}{{ line.quantity }} × {{ line.name }}\n{% endfor %}") }];
  return { from, filter: true, options: [...values, ...blocks, ...loops], validFor: undefined, update: undefined,
    ...(typed ? { filter: false, options: sieve([...values, ...blocks, ...loops],
    typed.text.replace(/^\{[{%]?\s*/, "")) } : {}) };
}

const sieve = (options, typed) => options.filter((option) => option.label.includes(typed));
