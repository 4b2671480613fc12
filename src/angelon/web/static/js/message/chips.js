// Variables, conditions and loops as whole chips: text between two marks the curly brackets is never half there.
import { Decoration, EditorState, EditorView, StateField, WidgetType } from "../../vendor/codemirror.js";

const PART = /\{\{[^{}]*\}\}|\{%[^{}%]*%\}/g;

// The chips of a text: {from, to, source, kind: "value" | "open" | "middle" | "close", opens?: which word}.
export function partsOf(text) {
  return [...text.matchAll(PART)].map((match) => {
    const source = match[0];
    const inner = source.slice(2, -2).replace(/^-|-$/g, "").trim();
    const word = source.startsWith("{%") ? inner.split(/\s/)[0] : "";
    const kind = word === "" ? "value" : word.startsWith("end") ? "close" : word === "else" || word === "elif"
      ? "middle" : "open";
    return { from: match.index, to: match.index + source.length, source, inner, word, kind };
  });
}

// For each opening part its closing one and text between two marks them on the same level, by position.
export function pairsOf(parts) {
  const pairs = new Map();
  const open = [];
  for (const part of parts) {
    if (part.kind === "open") open.push([part]);
    else if (part.kind === "middle" && open.length) open.at(-1).push(part);
    else if (part.kind === "close" && open.length) {
      const group = [...open.pop(), part];
      for (const member of group) pairs.set(member.from, group);
    }
  }
  return pairs;
}

// What a chip says.
export function wordsOf(part) {
  if (part.kind === "value") {
    const [name, ...filters] = part.inner.split("|").map((piece) => piece.trim());
    const plain = filters.join(" · ").replace(/["'()\s]+/g, " ").trim();
    return filters.length ? `${name} · ${plain}` : name || "?";
  }
  if (part.word === "if" || part.word === "elif") {
    const rest = part.inner.slice(part.word.length).trim();
    return `${part.word === "elif" ? "else if" : "if"} ${/^[\w.]+$/.test(rest) ? `${rest} is there` : rest}`;
  }
  if (part.word === "for") {
    const [, item, list] = part.inner.match(/^for\s+(\S+)\s+in\s+(.*)$/) ?? [];
    return item ? `for each ${item} of ${list}` : part.inner;
  }
  return { else: "else", endif: "end of if", endfor: "end of each" }[part.word] ?? part.inner;
}

export const namesOf = (part) => {
  if (part.kind === "close" || part.word === "else") return [];
  const bare = part.inner.replace(/"[^"]*"|'[^']*'/g, "");
  const expression = part.kind === "value" ? bare.split("|")[0]
    : bare.replace(/^(if|elif)\b/, "").replace(/^for\s+\S+\s+in\b/, "");
  return [...expression.matchAll(/(?<![.\w])[a-z_]\w*/g)].map((m) => m[0]).filter((name) =>
    !["and", "or", "not", "in", "is", "none", "true", "false"].includes(name));
};

class Chip extends WidgetType {
  constructor(part, state, title) {
    super();
    Object.assign(this, { words: wordsOf(part), kind: part.kind, state, title });
  }
  eq(other) {
    return other.words === this.words && other.state === this.state && other.title === this.title;
  }
  toDOM() {
    const element = document.createElement("span");
    element.className = `chip ${this.kind} ${this.state}`;
    element.textContent = this.words;
    element.title = this.title;
    return element;
  }
  ignoreEvent() {
    return false;
  }
}

// The editor's extension. `known` tells of a name: {value} where it is a variable, undefined where it is none.
export function chips(known) {
  const build = (state) => {
    const loops = new Set();
    const parts = partsOf(state.doc.toString());
    for (const part of parts) if (part.word === "for") loops.add(part.inner.split(/\s+/)[1]);
    const made = parts.map((part) => {
      const strangers = namesOf(part).filter((name) => !loops.has(name) && known(name) === undefined);
      const value = part.kind === "value" ? known(part.inner.split("|")[0].trim())?.value : undefined;
      const title = strangers.length ? `There is no variable “${strangers[0]}”` : value ? `now: ${value}`
        : part.kind === "value" ? "no value in this event" : part.inner;
      return Decoration.replace({ widget: new Chip(part, strangers.length ? "unknown" : value === "" ? "without" : "",
        title) }).range(part.from, part.to);
    });
    return Decoration.set(made);
  };
  const field = StateField.define({
    create: build,
    update: (value, change) => (change.docChanged ? build(change.state) : value),
    provide: (self) => [EditorView.decorations.from(self), EditorView.atomicRanges.of((view) =>
      view.state.field(self))],
  });
  return [field, EditorState.transactionFilter.of(whole), EditorView.domEventHandlers({ mousedown: choose })];
}

// How many halves of chips stand in a text.
const strays = (text) => (text.replace(PART, "").match(/\{\{|\}\}|\{%|%\}/g) ?? []).length;

// A change that would cut a chip takes the whole of it; taking one end of a condition or loop away takes the other,
// too.
function whole(change) {
  if (!change.docChanged || change.isUserEvent("undo") || change.isUserEvent("redo")
    || !(change.isUserEvent("input") || change.isUserEvent("delete") || change.isUserEvent("move"))) return change;
  const parts = partsOf(change.startState.doc.toString());
  if (!parts.length) return change;
  const selected = change.startState.selection.main;
  const sound = strays(change.newDoc.toString()) <= strays(change.startState.doc.toString());
  const changes = [];
  let changed = false;
  change.changes.iterChanges((from, to, _from, _to, inserted) => {
    let [start, end] = [from, to];
    for (const part of parts) {
      const taken = !selected.empty && selected.from <= part.from && selected.to >= part.to;
      if (sound && (taken || from !== to)) continue; // the whole of it is written anew, and what comes out is whole
      if (from === to && part.from < from && from < part.to) [start, end, changed] = [part.to, part.to, true];
      else if (from < part.to && to > part.from && (from > part.from || to < part.to)) [start, end,
        changed] = [Math.min(start, part.from), Math.max(end, part.to), true];
    }
    changes.push({ from: start, to: end, insert: inserted });
  });
  const gone = (part) => changes.some((c) => c.from <= part.from && c.to >= part.to
    && !c.insert.toString().includes(part.source));
  const pairs = pairsOf(parts);
  const partners = new Set();
  for (const part of parts) {
    if (part.kind === "value" || part.kind === "middle" || !gone(part)) continue;
    for (const member of pairs.get(part.from) ?? []) if (!gone(member)) partners.add(member);
  }
  for (const member of partners) changes.push({ from: member.from, to: member.to });
  if (!changed && !partners.size) return change;
  return [{ changes: changes.sort((a, b) => a.from - b.from), scrollIntoView: true, userEvent: "delete",
    sequential: false }];
}

// A click on a chip takes it in hand, to be moved, copied or deleted.
function choose(event, view) {
  if (!event.target.closest?.(".chip") || event.shiftKey) return false;
  const at = view.posAtDOM(event.target);
  const part = partsOf(view.state.doc.toString()).find((p) => p.from <= at && at <= p.to);
  if (!part) return false;
  view.focus();
  view.dispatch({ selection: { anchor: part.from, head: part.to } });
  return false;
}
