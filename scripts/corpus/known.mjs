// Builds games of known behaviour from real libraries: what must be said of each stands in its page, as in internal/trial/testdata/games.
import fs from "node:fs";
import path from "node:path";
import { createRequire } from "node:module";
import { libraries } from "./libraries.mjs";

const root = path.resolve(process.argv[2]);
const esbuild = createRequire(path.join(root, "npm/package.json"))("esbuild");
const flat = `export function flat(canvas, picture) {
  const c = canvas.getContext("2d"), i = new Image(); i.src = picture;
  return (x, y) => { c.fillStyle = "#204060"; c.fillRect(0, 0, canvas.width, canvas.height); if (i.complete && i.naturalWidth) c.drawImage(i, x, y, 120, 120); };
}`;
const lamp = Buffer.from("iVBORw0KGgoAAAANSUhEUgAAAAIAAAACCAYAAABytg0kAAAAEUlEQVR42mP4fybtPwgzwBgAc54MwdgDg2wAAAAASUVORK5CYII=", "base64");
const bell = Buffer.from("UklGRiQAAABXQVZFZm10IBAAAAABAAEAQB8AAEAfAAABAAgAZGF0YQAAAAA=", "base64");

// What a game does with its library, and what must be said of it.
const kinds = {
  "waits-for-a-key": ["yes", `addEventListener("keydown", begin, { once: true });`],
  "lacks-its-data": ["no: night.json", `fetch("night.json").then((r) => { if (!r.ok) throw new Error("there is no night"); return begin(); });`],
  "throws-when-loaded": ["no: light", `setTimeout(() => { window.wick.light(); begin(); }, 500);`],
};
for (const [name, library] of Object.entries(libraries)) {
  for (const [kind, [want, code]] of Object.entries(kinds)) {
    const to = path.join(root, "known", `${name}-${kind}`), from = path.join(root, "known-src", `${name}-${kind}`);
    if (fs.existsSync(path.join(to, "index.html"))) continue;
    fs.mkdirSync(path.join(from, "art"), { recursive: true });
    fs.mkdirSync(to, { recursive: true });
    fs.writeFileSync(path.join(from, "library.js"), library);
    fs.writeFileSync(path.join(from, "flat.js"), flat);
    fs.writeFileSync(path.join(from, "art/lamp.png"), lamp);
    fs.writeFileSync(path.join(from, "art/bell.wav"), bell);
    fs.writeFileSync(path.join(from, "game.js"), `import { start } from "./library.js"; import lamp from "./art/lamp.png";
const begin = async () => {
  document.getElementById("title").remove();
  const draw = await start(document.querySelector("canvas"), lamp);
  const step = () => { draw(); requestAnimationFrame(step); };
  step();
};
${code}`);
    try {
      await esbuild.build({
        entryPoints: [path.join(from, "game.js")], bundle: true, outfile: path.join(to, "game.js"), format: "esm", logLevel: "silent",
        loader: { ".png": "file", ".wav": "file", ".wasm": "file" }, nodePaths: [path.join(root, "npm/node_modules")], define: { "process.env.NODE_ENV": '"production"' },
      });
    } catch (e) { // a library that esbuild can't bundle has no game
      fs.rmSync(to, { recursive: true, force: true });
      console.error(`${name}: ${String(e.message).split("\n")[0]}`);
      break;
    }
    fs.writeFileSync(path.join(to, "index.html"), `<!doctype html>
<!-- ${want} -->
<meta charset="utf-8"><title>Tinderwick Lane</title>
<style>html, body { margin: 0; height: 100%; overflow: hidden; background: #000; color: #fc6; font: 40px sans-serif } canvas { display: block; width: 100vw; height: 60vh }</style>
<h1 id="title" style="position: absolute; left: 20vw; top: 10vh">Tinderwick Lane</h1>
<canvas width="640" height="360"></canvas>
<script type="module" src="game.js"></script>
`);
  }
}
