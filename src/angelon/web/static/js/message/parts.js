// Small makers of elements.
export function element(tag, properties = {}, ...children) {
  const made = document.createElement(tag);
  for (const [name, value] of Object.entries(properties)) {
    if (name.includes("-")) made.setAttribute(name, value);
    else made[name] = value;
  }
  made.append(...children);
  return made;
}

export function button(words, act, properties = {}) {
  const made = element("button", { type: "button", ...properties }, words);
  made.addEventListener("click", act);
  return made;
}

export function choice(options, value, changed) {
  const select = document.createElement("select");
  select.append(...options.map(([key, said]) => new Option(said, key)));
  select.value = value;
  select.addEventListener("change", () => changed(select.value));
  return select;
}

export function labelled(label, ...inside) {
  return element("div", { className: "line" }, element("span", {}, label), element("div", {}, ...inside));
}
