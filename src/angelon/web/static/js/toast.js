// One short sentence at the edge of the page, for a moment.
let shown;

export function say(text, bad = false) {
  shown?.remove();
  shown = document.createElement("div");
  shown.className = bad ? "toast bad-news" : "toast";
  shown.setAttribute("role", bad ? "alert" : "status");
  shown.textContent = text;
  document.body.append(shown);
  const mine = shown;
  if (!bad) setTimeout(() => mine.remove(), 2600);
}
