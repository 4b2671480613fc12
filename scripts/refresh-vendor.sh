#!/bin/sh
# Brings styles, fonts and icons from their npm packages into the repo, and writes the manifest of what is there.
# The application itself needs no network; run this only to move to newer versions.
set -e
cd "$(dirname "$0")/.."
OUT=$PWD/src/angelon/web/static/vendor
WORK=$(mktemp -d)
trap 'rm -rf "$WORK"' EXIT
cd "$WORK"
npm init -y >/dev/null
npm install --silent --save-exact bulma@1.0.4 lucide-static@1.62.0 \
  @fontsource-variable/atkinson-hyperlegible-next@5.3.0 @fontsource-variable/atkinson-hyperlegible-mono@5.3.0 \
  @codemirror/state@6.7.6 @codemirror/view@6.43.15 @codemirror/commands@6.11.1 @codemirror/language@6.13.1 \
  @codemirror/autocomplete@6.20.4 @codemirror/lint@6.9.8 @codemirror/legacy-modes@6.5.5 esbuild@0.28.2
cat > entry.js <<'JS'
export { EditorState, EditorSelection, StateField, StateEffect, Transaction, Compartment, RangeSetBuilder } from "@codemirror/state";
export { EditorView, Decoration, WidgetType, ViewPlugin, keymap, placeholder, drawSelection, dropCursor } from "@codemirror/view";
export { history, historyKeymap, defaultKeymap, undo, redo } from "@codemirror/commands";
export { autocompletion, completionKeymap, startCompletion, completionStatus } from "@codemirror/autocomplete";
export { setDiagnostics, linter } from "@codemirror/lint";
export { StreamLanguage, syntaxHighlighting, HighlightStyle } from "@codemirror/language";
export { html } from "@codemirror/legacy-modes/mode/xml";
export { tags } from "@lezer/highlight";
JS
npx esbuild entry.js --bundle --format=esm --minify --legal-comments=inline --outfile="$OUT/codemirror.js"
mkdir -p "$OUT/fonts"
cp node_modules/bulma/css/versions/bulma-no-helpers.min.css "$OUT/bulma.min.css"
for part in latin latin-ext; do
  for face in next mono; do
    cp "node_modules/@fontsource-variable/atkinson-hyperlegible-$face/files/atkinson-hyperlegible-$face-$part-wght-normal.woff2" "$OUT/fonts/"
  done
done
OUT="$OUT" python3 - <<'PY'
import hashlib, json, os, pathlib, re

out = pathlib.Path(os.environ["OUT"])
modules = pathlib.Path("node_modules")
icons = {
    "overview": "waypoints", "orders": "package", "sends": "send", "sources": "cable", "messages": "pen-line", "routes": "signpost",
    "gateways": "door-open", "parcels": "map-pinned", "carriers": "truck", "standins": "theater", "search": "search", "copy": "copy", "light": "sun", "dark": "moon", "system": "monitor",
    "suppressions": "ban", "senders": "stamp", "rehearsals": "drafting-compass", "checks": "list-checks", "changes": "history", "handlers": "file-code", "letterhead": "book-marked", "documents": "receipt-text", "files": "folder-open", "customer_pages": "app-window",
    "settings": "sliders-horizontal", "guide": "book-open",
}
symbols = []
for name, icon in sorted(icons.items()):
    svg = (modules / "lucide-static/icons" / f"{icon}.svg").read_text()
    inner = re.search(r"<svg[^>]*>(.*)</svg>", svg, re.S)[1]
    inner = re.sub(r"\s*\n\s*", "", inner)
    symbols.append(f'<symbol id="{name}" viewBox="0 0 24 24">{inner}</symbol>')
(out / "icons.svg").write_text('<svg xmlns="http://www.w3.org/2000/svg">' + "\n".join(symbols) + "</svg>\n")

packages = {
    "bulma.min.css": "bulma", "icons.svg": "lucide-static",
    "fonts/atkinson-hyperlegible-next": "@fontsource-variable/atkinson-hyperlegible-next",
    "fonts/atkinson-hyperlegible-mono": "@fontsource-variable/atkinson-hyperlegible-mono",
    "codemirror.js": "@codemirror/view",
}
manifest = []
for file in sorted(p for p in out.rglob("*") if p.is_file() and p.name != "manifest.json"):
    relative = str(file.relative_to(out))
    package = next((v for k, v in packages.items() if relative.startswith(k)), "")
    found = json.loads((modules / package / "package.json").read_text()) if package and (modules / package).exists() else {}
    manifest.append({"file": relative, "package": package, "version": found.get("version", ""), "licence": found.get("license", ""),
                     "sha256": hashlib.sha256(file.read_bytes()).hexdigest()})
(out / "manifest.json").write_text(json.dumps(manifest, indent=1) + "\n")
PY
