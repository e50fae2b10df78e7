import { both } from "lane";
import part from "parts/one.js";
import "./parts/one.js?v=2";
const wait = (what, event) => new Promise((ok, no) => { what.addEventListener(event, ok, { once: true }); what.addEventListener("error", no, { once: true }); });
const said = (worker) => new Promise((ok, no) => { worker.onmessage = (e) => ok(e.data); worker.onerror = no; });
const loaded = async (src) => { const i = new Image(); i.src = src; await i.decode(); return i; };
const xhr = (method, url, set = () => {}) => new Promise((ok) => { const x = new XMLHttpRequest(); x.open(method, url); set(x); x.onloadend = () => ok(x); x.send(); });
const list = {
	circle: async () => both() === "lane of lane",
	mapped: async () => part === "a part" && (await import("parts/one.js")).default === part,
	dynamic: async () => (await import("./" + ["la", "ne.js"].join(""))).name === "lane" && (await later()) === "lane",
	meta: async () => new URL("../levels.json", import.meta.url).pathname.endsWith("/levels.json") && (await fetch(new URL("../levels.json", import.meta.url))).ok,
	order: async () => order.join() === "inline,written,plain,deferred:interactive" && ownAddress.endsWith("/js/plain.js"),
	spaced: async () => document.getElementById("spaced").naturalWidth > 0 && /a%20lamp\.png|lamp\.png/.test(document.getElementById("spaced").currentSrc),
	fetched: async () => { const r = await fetch("levels.json"); return r.url.endsWith("/levels.json") && r.headers.get("content-type").includes("json") && (await r.json()).lanterns === 4; },
	absent: async () => (await fetch("gone.json")).status === 404 && (await xhr("GET", "gone.json")).status === 404,
	head: async () => (await fetch("levels.json", { method: "HEAD" })).headers.get("content-length") > 10 && (await xhr("HEAD", "levels.json")).getResponseHeader("content-length") > 10,
	range: async () => { const r = await fetch("levels.json", { headers: { Range: "bytes=2-10" } }); return r.status === 206 && (await r.text()) === '"lanterns'; },
	asked: async () => { const x = await xhr("GET", "levels.json", (x) => { x.responseType = "json"; }); return x.response.lanterns === 4 && x.responseURL.endsWith("/levels.json"); },
	progress: async () => { let last = 0; const x = await xhr("GET", "levels.json", (x) => { x.responseType = "arraybuffer"; x.onprogress = (e) => { last = e.lengthComputable ? e.loaded : -1; }; }); return last === x.response.byteLength; },
	classic: async () => (await said(new Worker("js/classic.js"))) === "tool,4,true",
	blobbed: async () => (await said(new Worker(URL.createObjectURL(new Blob([`importScripts(${JSON.stringify(new URL("js/tool.js", document.baseURI).href)}); postMessage(tool)`], { type: "text/javascript" }))))) === "tool",
	untyped: async () => (await said(new Worker(URL.createObjectURL(new Blob(["postMessage('a')"]))))) === "a",
	module: async () => { const w = new Worker(new URL("module.js", import.meta.url), { type: "module" }), s = said(w); w.postMessage("!"); return (await s) === "a part!true"; },
	style: async () => { const d = document.createElement("div"); d.id = "from-import"; document.body.append(d); const ok = d.offsetWidth === 7; d.remove(); return ok; },
	painted: async () => { const d = document.createElement("div"); d.style.backgroundImage = "url(art/lamp.png)"; d.style.setProperty("width", "7px"); CSSStyleDeclaration.prototype.setProperty.call(d.style, "height", "9px"); document.body.append(d); const laid = d.offsetWidth === 7 && d.offsetHeight === 9; await new Promise((ok) => setTimeout(ok, 300)); d.remove(); return laid; },
	markup: async () => { const d = document.createElement("div"); d.innerHTML = '<img src="art/lamp.png">'; await d.firstChild.decode(); return d.firstChild.getAttribute("src").endsWith("art/lamp.png"); },
	drawn: async () => { const i = await loaded("art/lamp.svg"), c = document.createElement("canvas").getContext("2d"); c.drawImage(i, 0, 0); return c.getImageData(5, 5, 1, 1).data[0] > 200; },
	clean: async () => { const i = await loaded("art/lamp.png"), c = document.createElement("canvas").getContext("2d"); c.drawImage(i, 0, 0); return c.getImageData(1, 1, 1, 1).data.length === 4; },
	named: async () => { const i = await loaded("art/lamp.png"), a = new Audio("art/lamp.png"), s = document.getElementById("spaced"); return i.getAttribute("src") === "art/lamp.png" && i.src.endsWith("/art/lamp.png") && a.getAttribute("src") === "art/lamp.png" && s.getAttribute("src") === "art/a%20lamp.png"; },
	parsed: async () => { const i = document.importNode(new DOMParser().parseFromString('<img src="art/lamp.png">', "text/html").images[0], true); document.body.append(i); await i.decode(); i.remove(); return i.getAttribute("src") === "art/lamp.png"; },
	sets: async () => { const d = document.createElement("div"); d.id = "set"; document.body.append(d); const seen = getComputedStyle(d).backgroundImage, b = document.createElement("img"); d.remove(); b.src = /"([^"]*)"/.exec(seen)[1]; await b.decode(); return b.naturalWidth > 0; },
	json: async () => (await import("../levels.json", { with: { type: "json" } })).default.lanterns === 4,
	told: async () => { const f = document.createElement("iframe"); f.srcdoc = `<img src="art/lamp.png" onload="parent.postMessage('lit', '*')"><link rel=stylesheet href="style.css">`; const lit = new Promise((ok) => addEventListener("message", (e) => { if (e.data === "lit") ok(true); })); f.style.cssText = "position:absolute;left:-500px"; document.body.append(f); return lit; },
	texted: async () => { if (origin === "null") return true; /* a frame there has an origin of its own, and nothing of the game */ const f = document.createElement("iframe"); f.style.cssText = "position:absolute;left:-500px"; const text = `<script>fetch("levels.json").then((r) => r.json()).then((l) => parent.postMessage("text " + l.lanterns, "*"))<\/script>`; const said = new Promise((ok) => addEventListener("message", (e) => { if (/^text/.test(e.data)) ok(e.data); })); f.srcdoc = text; document.body.append(f); return (await said) === "text 4" && f.srcdoc === text; },
	inner: async () => { for (let i = 0; i < 40 && !inner.length; i++) await new Promise((ok) => setTimeout(ok, 100)); return inner.join() === "4"; },
	nested: async () => location.pathname === new URL(document.baseURI).pathname,
};
export async function ways() {
	const tiles = document.createElement("div");
	tiles.id = "tiles";
	document.body.append(tiles);
	await Promise.all(Object.entries(list).map(async ([name, way]) => {
		const tile = document.createElement("div");
		tile.title = name;
		tiles.append(tile);
		try {
			if (await way()) tile.className = "lit";
			else console.error(name + " differs");
		} catch (e) {
			console.error(name + ": " + (e && e.message));
		}
	}));
	dispatchEvent(new CustomEvent("game-event", { detail: { event: "loading-done" } }));
}
