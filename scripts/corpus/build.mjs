// Builds the exports of the corpus: node build.mjs FOLDER [NAME…]. Each export is a folder FOLDER/exports/NAME; FOLDER/work holds the rest.
import fs from "node:fs";
import path from "node:path";
import zlib from "node:zlib";
import { createRequire } from "node:module";
import { execFileSync } from "node:child_process";
import { libraries } from "./libraries.mjs";
import { sources, plain } from "./games.mjs";

const home = path.resolve(process.argv[2]), only = process.argv.slice(3);
const require = createRequire(path.join(home, "npm", "x.js"));
const load = async name => { const m = await import(require.resolve(name)); return m.default ?? m; };

const write = (file, data) => { fs.mkdirSync(path.dirname(file), { recursive: true }); fs.writeFileSync(file, data); };

// png is a small picture of one colour.
export function png(r, g, b, size = 64) {
  const row = Buffer.concat([Buffer.from([0]), Buffer.concat(Array.from({ length: size }, () => Buffer.from([r, g, b])))]);
  const crc = data => { let c = ~0; for (const x of data) { c ^= x; for (let k = 0; k < 8; k++) c = c & 1 ? (c >>> 1) ^ 0xedb88320 : c >>> 1; } return ~c >>> 0; };
  const chunk = (name, data) => { const n = Buffer.alloc(4), c = Buffer.alloc(4), all = Buffer.concat([Buffer.from(name), data]); n.writeUInt32BE(data.length); c.writeUInt32BE(crc(all)); return Buffer.concat([n, all, c]); };
  const head = Buffer.alloc(13); head.writeUInt32BE(size, 0); head.writeUInt32BE(size, 4); head.set([8, 2, 0, 0, 0], 8);
  return Buffer.concat([Buffer.from([137, 80, 78, 71, 13, 10, 26, 10]), chunk("IHDR", head), chunk("IDAT", zlib.deflateSync(Buffer.concat(Array(size).fill(row)))), chunk("IEND", Buffer.alloc(0))]);
}

// wav is a short sound.
export function wav() {
  const n = 40_000, b = Buffer.alloc(44 + n);
  b.write("RIFF", 0); b.writeUInt32LE(36 + n, 4); b.write("WAVEfmt ", 8); b.writeUInt32LE(16, 16); b.set([1, 0, 1, 0], 20); b.writeUInt32LE(8000, 24); b.writeUInt32LE(8000, 28); b.set([1, 0, 8, 0], 32); b.write("data", 36); b.writeUInt32LE(n, 40);
  for (let i = 0; i < n; i++) b[44 + i] = 128 + 100 * Math.sin(i / 5);
  return b;
}

// lay writes the sources of one game and returns their folder.
function lay(name, files) {
  const at = path.join(home, "work", name);
  fs.rmSync(at, { recursive: true, force: true });
  for (const [file, text] of Object.entries(files)) write(path.join(at, file), text);
  for (const [file, data] of Object.entries({ "src/art/lamp.png": png(255, 200, 90), "src/art/moth.png": png(90, 200, 255), "public/art/wall.png": png(80, 80, 90), "src/art/bell.wav": wav(), "public/levels/one.json": "{\"lanterns\": 3}", "public/levels/two.json": "{\"lanterns\": 5}" })) write(path.join(at, file), data);
  if (!fs.existsSync(path.join(at, "node_modules"))) fs.symlinkSync(path.join(home, "npm", "node_modules"), path.join(at, "node_modules"));
  return at;
}

const copyPublic = (at, out) => fs.cpSync(path.join(at, "public"), out, { recursive: true });
const page = (script, style) => `<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>Tinderwick Lane</title>${style ? `<link rel="stylesheet" href="${style}">` : ""}</head><body><canvas id="lane" width="640" height="360"></canvas><script type="module" src="${script}"></script></body></html>`;

const bundlers = {
  async vite(at, out, base) {
    const vite = await load("vite");
    write(path.join(at, "index.html"), page("/src/main.js"));
    await vite.build({ root: at, base: base === "auto" ? "" : base, logLevel: "error", configFile: false, build: { outDir: out, emptyOutDir: true, assetsInlineLimit: 0 }, worker: { format: "es" } });
  },
  async webpack(at, out, base, from = "webpack") {
    const pack = await load(from === "webpack" ? "webpack" : "@rspack/core");
    const html = from === "webpack" ? new (await load("html-webpack-plugin"))({ templateContent: page("x").replace(/<script.*script>/, "") }) : new pack.HtmlRspackPlugin({ templateContent: page("x").replace(/<script.*script>/, "") });
    const done = await new Promise((ok, no) => pack({
      mode: "production", context: at, entry: "./src/main.js", performance: false, devtool: false, cache: false,
      output: { path: out, publicPath: base, filename: "js/[name].[contenthash:8].js", assetModuleFilename: "art/[name].[hash][ext]", clean: true },
      module: { rules: [{ test: /\.(png|wav)$/, type: "asset/resource" }, { test: /\.css$/, type: "asset/resource" }] }, plugins: [html],
    }, (e, s) => e ? no(e) : ok(s)));
    if (done.hasErrors()) throw new Error(done.toString({ all: false, errors: true }));
    copyPublic(at, out);
  },
  rspack: (at, out, base) => bundlers.webpack(at, out, base, "rspack"),
  async rollup(at, out, base) {
    const { rollup } = await import(require.resolve("rollup"));
    const [resolve, commonjs, terser] = await Promise.all(["@rollup/plugin-node-resolve", "@rollup/plugin-commonjs", "@rollup/plugin-terser"].map(load));
    const root = base === "auto" ? "./" : base;
    const asset = { name: "asset", async load(id) { if (/\.(png|wav|css)$/.test(id)) { const ref = this.emitFile({ type: "asset", name: path.basename(id), source: fs.readFileSync(id) }); return base === "auto" ? `export default import.meta.ROLLUP_FILE_URL_${ref}` : `export default ${JSON.stringify(root)} + "assets/" + ${JSON.stringify(path.basename(id))}`; } } };
    const b = await rollup({ input: { main: path.join(at, "src/main.js"), worker: path.join(at, "src/worker.js") }, plugins: [asset, resolve({ browser: true }), commonjs(), terser({ module: true })], onwarn() {} });
    await b.write({ dir: path.join(out, "js"), format: "es", entryFileNames: "[name].js", chunkFileNames: "[name]-[hash].js", assetFileNames: "../assets/[name][extname]" }).catch(() => b.write({ dir: out, format: "es", entryFileNames: "js/[name].js", chunkFileNames: "js/[name]-[hash].js", assetFileNames: "assets/[name][extname]" }));
    copyPublic(at, out);
    write(path.join(out, "index.html"), page(root + "js/main.js"));
  },
  async esbuild(at, out, base) {
    const { build } = await load("esbuild");
    const root = base.startsWith("/") ? base : undefined; // a relative one would be relative to two things
    await build({ entryPoints: { main: path.join(at, "src/main.js"), worker: path.join(at, "src/worker.js") }, bundle: true, splitting: true, format: "esm", minify: true, outdir: path.join(out, "js"), publicPath: root && root + "js", loader: { ".png": "file", ".wav": "file", ".css": "file" }, assetNames: "[name]-[hash]", logLevel: "error" });
    copyPublic(at, out);
    write(path.join(out, "index.html"), page((root ?? "") + "js/main.js"));
  },
  async parcel(at, out, base) {
    write(path.join(at, "index.html"), page("./src/main.js"));
    write(path.join(at, "package.json"), "{\"name\": \"lane\", \"private\": true}");
    execFileSync(path.join(home, "npm/node_modules/.bin/parcel"), ["build", "index.html", "--public-url", base === "auto" ? "./" : base, "--dist-dir", out, "--no-source-maps", "--no-cache", "--log-level", "none"], { cwd: at, stdio: ["ignore", "ignore", "pipe"] });
    copyPublic(at, out);
  },
};

// matrix says which library is built by what, for which base path, with which features.
// A game without a library is built in every way: it is small, so that what a bundler makes of it can be read.
const names = Object.keys(libraries).filter(n => n !== "none"), paths = ["./", "/", "/lane/", "auto"], builders = Object.keys(bundlers);
const matrix = names.flatMap((library, i) => [0, 1].map(k => ({ library, bundler: builders[(i + k * 3) % builders.length], base: paths[(i + (i >> 2) + k * 2) % paths.length], features: i * 2 + k })))
  .concat(builders.flatMap((bundler, i) => paths.map((base, k) => ({ library: "none", bundler, base, features: 4 * i + k }))));

// variants are ways of building that differ from the usual one.
const variants = {
  async "vite-pages-root"(at, out) {
    const vite = await load("vite");
    write(path.join(at, "index.html"), page("/src/main.js").replace("</body>", `<a href="/extra/">more</a><iframe src="/extra/index.html"></iframe></body>`));
    write(path.join(at, "extra/index.html"), page("/src/main.js"));
    await vite.build({ root: at, base: "/", logLevel: "error", configFile: false, build: { outDir: out, emptyOutDir: true, assetsInlineLimit: 0, rollupOptions: { input: { index: path.join(at, "index.html"), extra: path.join(at, "extra/index.html") } } }, worker: { format: "es" } });
  },
  async "vite-inlined-lane"(at, out) {
    const vite = await load("vite");
    write(path.join(at, "index.html"), page("/src/main.js"));
    await vite.build({ root: at, base: "/lane/", logLevel: "error", configFile: false, build: { outDir: out, emptyOutDir: true, minify: false, modulePreload: { polyfill: true }, target: "es2020" } });
  },
  async "webpack-split-root"(at, out) {
    const webpack = await load("webpack"), Html = await load("html-webpack-plugin");
    const done = await new Promise((ok, no) => webpack({ mode: "production", context: at, entry: "./src/main.js", performance: false, devtool: false, cache: false, output: { path: out, publicPath: "/", filename: "[name].[contenthash].js", chunkFilename: "parts/[name].[contenthash].js", assetModuleFilename: "art/[hash][ext]", clean: true }, optimization: { runtimeChunk: "single", splitChunks: { chunks: "all", minSize: 0 } }, module: { rules: [{ test: /\.(png|wav)$/, type: "asset/resource" }] }, plugins: [new Html({ templateContent: page("x").replace(/<script.*script>/, "") })] }, (e, s) => e ? no(e) : ok(s)));
    if (done.hasErrors()) throw new Error(done.toString({ all: false, errors: true }));
    copyPublic(at, out);
  },
  async "webpack-readable-lane"(at, out) {
    const webpack = await load("webpack"), Html = await load("html-webpack-plugin");
    const done = await new Promise((ok, no) => webpack({ mode: "development", devtool: "eval", context: at, entry: "./src/main.js", performance: false, cache: false, output: { path: out, publicPath: "/lane/", filename: "[name].js", clean: true }, module: { rules: [{ test: /\.(png|wav)$/, type: "asset/resource" }] }, plugins: [new Html({ templateContent: page("x").replace(/<script.*script>/, "") })] }, (e, s) => e ? no(e) : ok(s)));
    if (done.hasErrors()) throw new Error(done.toString({ all: false, errors: true }));
    copyPublic(at, out);
  },
  async "rspack-source-root"(at, out) {
    const pack = await load("@rspack/core");
    const done = await new Promise((ok, no) => pack.rspack({ mode: "development", devtool: false, context: at, entry: "./src/main.js", output: { path: out, publicPath: "/", filename: "[name].js", clean: true }, module: { rules: [{ test: /\.(png|wav)$/, type: "asset/resource" }] }, plugins: [new pack.HtmlRspackPlugin({ templateContent: page("x").replace(/<script.*script>/, "") })] }, (e, s) => e ? no(e) : ok(s)));
    if (done.hasErrors()) throw new Error(done.toString({ all: false, errors: true }));
    copyPublic(at, out);
  },
  async "esbuild-classic-root"(at, out) {
    const { build } = await load("esbuild");
    await build({ entryPoints: [path.join(at, "src/main.js")], bundle: true, format: "iife", outfile: path.join(out, "js/main.js"), publicPath: "/js", loader: { ".png": "file", ".wav": "file", ".css": "file" }, logLevel: "error" });
    await build({ entryPoints: [path.join(at, "src/worker.js")], bundle: true, format: "iife", outfile: path.join(out, "js/worker.js"), logLevel: "error" });
    copyPublic(at, out);
    write(path.join(out, "index.html"), page("/js/main.js").replace(' type="module"', " defer"));
  },
  async "rollup-classic-lane"(at, out) {
    const { rollup } = await import(require.resolve("rollup"));
    const [resolve, commonjs] = await Promise.all(["@rollup/plugin-node-resolve", "@rollup/plugin-commonjs"].map(load));
    const asset = { name: "asset", load(id) { if (/\.(png|wav|css)$/.test(id)) { write(path.join(out, "assets", path.basename(id)), fs.readFileSync(id)); return `export default "/lane/assets/" + ${JSON.stringify(path.basename(id))}`; } } };
    const b = await rollup({ input: path.join(at, "src/main.js"), plugins: [asset, resolve({ browser: true }), commonjs()], onwarn() {} });
    await b.write({ file: path.join(out, "js/main.js"), format: "iife", inlineDynamicImports: true, name: "lane" });
    write(path.join(out, "js/worker.js"), fs.readFileSync(path.join(at, "src/worker.js")));
    copyPublic(at, out);
    write(path.join(out, "index.html"), page("/lane/js/main.js").replace(' type="module"', " defer"));
  },
  async "parcel-pages-lane"(at, out) {
    write(path.join(at, "index.html"), page("./src/main.js").replace("</body>", `<iframe src="./extra/index.html"></iframe></body>`));
    write(path.join(at, "extra/index.html"), page("../src/main.js"));
    write(path.join(at, "package.json"), "{\"name\": \"lane\", \"private\": true}");
    execFileSync(path.join(home, "npm/node_modules/.bin/parcel"), ["build", "index.html", "--public-url", "/lane/", "--dist-dir", out, "--no-source-maps", "--no-cache", "--log-level", "none"], { cwd: at, stdio: ["ignore", "ignore", "pipe"] });
    copyPublic(at, out);
  },
};

const wanted = name => only.length === 0 || only.some(o => name.includes(o));
const failed = [];
for (const m of matrix) {
  const label = { "./": "dot", "/": "root", "/lane/": "lane", auto: "auto" }[m.base];
  const name = `${m.library}-${m.bundler}-${label}`, out = path.join(home, "exports", name);
  if (!wanted(name) || fs.existsSync(out)) continue;
  try {
    const at = lay(name, sources(libraries[m.library], m.base, m.features, m.bundler));
    await bundlers[m.bundler](at, out, m.base);
  } catch (e) {
    failed.push(name);
    fs.rmSync(out, { recursive: true, force: true });
    console.error(`${name}: ${String(e.message ?? e).split("\n").slice(0, 4).join(" ")}`);
  }
}
for (const [name, make] of Object.entries(variants)) {
  const out = path.join(home, "exports", name);
  if (!wanted(name) || fs.existsSync(out)) continue;
  const base = name.endsWith("-lane") ? "/lane/" : "/", bundler = name.split("-")[0];
  try { await make(lay(name, sources(libraries.none, base, 1, bundler)), out); } catch (e) { failed.push(name); fs.rmSync(out, { recursive: true, force: true }); console.error(`${name}: ${String(e.message ?? e).split("\n").slice(0, 4).join(" ")}`); }
}
for (const [name, make] of Object.entries(plain({ png, wav, npm: path.join(home, "npm/node_modules"), run: execFileSync }))) {
  const out = path.join(home, "exports", name);
  if (!wanted(name) || fs.existsSync(out)) continue;
  try { make((file, data) => write(path.join(out, file), data), out); } catch (e) { failed.push(name); fs.rmSync(out, { recursive: true, force: true }); console.error(`${name}: ${e.message}`); }
}
console.log(`${fs.readdirSync(path.join(home, "exports")).length} exports in ${path.join(home, "exports")}${failed.length ? `; not built: ${failed.join(", ")}` : ""}`);
process.exit(0);
