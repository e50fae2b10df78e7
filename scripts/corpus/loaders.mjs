// Bundles games that unpack their level by a library: node loaders.mjs FOLDER. Each is a folder FOLDER/loaders/NAME with game.js and the level, for
// the tests of compressed files; the page and the function start come from there.
import fs from "node:fs";
import path from "node:path";
import zlib from "node:zlib";
import { createRequire } from "node:module";
import { execFileSync } from "node:child_process";

const home = path.resolve(process.argv[2]);
const require = createRequire(path.join(home, "npm", "x.js"));
const load = async name => { const m = await import(require.resolve(name)); return m.default ?? m; };

const level = JSON.stringify({ lanterns: Array.from({ length: 50 }, (_, i) => (i * 7) % 10) });
const gz = { "one.json.gz": zlib.gzipSync(level) }, br = { "one.json.br": zlib.brotliCompressSync(level) };
const get = `const bytes = async u => new Uint8Array(await (await fetch(u)).arrayBuffer());\n`;

const games = {
  "pako-fetch": [gz, `import * as pako from "pako"; ${get} bytes("one.json.gz").then(b => window.start(pako.ungzip(b)));`],
  "pako-request": [gz, `import { inflate } from "pako"; const x = new XMLHttpRequest(); x.open("GET", "one.json.gz"); x.responseType = "arraybuffer"; x.onload = () => window.start(inflate(new Uint8Array(x.response))); x.send();`],
  "pako-class": [gz, `import * as pako from "pako"; class Loader { async load(n) { const r = await fetch(n); return this.open(await r.arrayBuffer()) } open(b) { return pako.inflate(new Uint8Array(b)) } } new Loader().load("one.json.gz").then(b => window.start(b));`],
  "fflate-then": [gz, `import { gunzipSync } from "fflate"; fetch("one.json.gz").then(r => r.arrayBuffer()).then(b => window.start(gunzipSync(new Uint8Array(b))));`],
  "fflate-callback": [gz, `import { decompress } from "fflate"; ${get} bytes("one.json.gz").then(b => decompress(b, (e, d) => window.start(d)));`],
  "fflate-unused": [gz, `import { unzipSync } from "fflate"; window.extra = f => unzipSync(f); fetch("one.json.gz").then(r => r.json()).then(d => window.start(JSON.stringify(d)));`],
  "fflate-hidden": [{ "one.level": zlib.deflateRawSync(level) }, `import { inflateSync } from "fflate"; ${get} bytes("one.level").then(b => window.start(inflateSync(b)));`],
  "fflate-name-in-data": [{ ...gz, "game.json": `{"level": "one.json.gz"}` }, `import { gunzipSync } from "fflate"; ${get} fetch("game.json").then(r => r.json()).then(g => bytes(g.level)).then(b => window.start(gunzipSync(b)));`],
  "fzstd": [{ "one.json.zst": null }, `import { decompress } from "fzstd"; ${get} bytes("one.json.zst").then(b => window.start(decompress(b)));`],
  "brotli": [br, `import { decompress } from "brotli/decompress"; ${get} async function open(n) { return decompress(await bytes(n)) } open("one.json.br").then(b => window.start(b));`],
  "tiny-inflate": [{ "one.level": zlib.deflateRawSync(level) }, `import inflate from "tiny-inflate"; ${get} bytes("one.level").then(b => { const out = new Uint8Array(${level.length}); inflate(b, out); window.start(out) });`],
};

const bundlers = {
  async esbuild(from, to) {
    const { build } = await load("esbuild");
    await build({ entryPoints: [from], outfile: to, bundle: true, minify: true, format: "esm", logLevel: "error" });
  },
  async rollup(from, to) {
    const { rollup } = await import(require.resolve("rollup"));
    const [resolve, commonjs, terser] = await Promise.all(["@rollup/plugin-node-resolve", "@rollup/plugin-commonjs", "@rollup/plugin-terser"].map(load));
    const b = await rollup({ input: from, plugins: [resolve({ browser: true }), commonjs(), terser({ module: true })], onwarn() {} });
    await b.write({ file: to, format: "es" });
  },
  async webpack(from, to) {
    const webpack = await load("webpack");
    const done = await new Promise((ok, no) => webpack({ mode: "production", entry: from, performance: false, devtool: false, cache: false, output: { path: path.dirname(to), filename: path.basename(to) } }, (e, s) => e ? no(e) : ok(s)));
    if (done.hasErrors()) throw new Error(done.toString({ all: false, errors: true }));
  },
};

for (const [name, [files, script]] of Object.entries(games)) {
  for (const [bundler, bundle] of Object.entries(bundlers)) {
    const at = path.join(home, "loaders", `${name}-${bundler}`), from = path.join(home, "work", "loaders", `${name}.js`);
    fs.rmSync(at, { recursive: true, force: true });
    fs.mkdirSync(at, { recursive: true });
    fs.mkdirSync(path.dirname(from), { recursive: true });
    fs.writeFileSync(from, script);
    if (!fs.existsSync(path.join(home, "work", "node_modules"))) fs.symlinkSync(path.join(home, "npm", "node_modules"), path.join(home, "work", "node_modules"));
    await bundle(from, path.join(at, "game.js"));
    fs.writeFileSync(path.join(at, "game.js"), "window.start = start;\n" + fs.readFileSync(path.join(at, "game.js")));
    for (const [file, data] of Object.entries(files)) fs.writeFileSync(path.join(at, file), data ?? execFileSync("zstd", ["-q", "-c"], { input: level }));
  }
  console.log("built", name);
}
