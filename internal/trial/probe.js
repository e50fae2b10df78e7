(function (conditions) {
	"use strict";
	// Watches what a page draws and how much memory it takes, without changing what it does, and hands on what it says.
	const told = window.havvelSay;
	delete window.havvelSay;
	let count = 0;
	const say = (what) => {
		try { told(JSON.stringify({ at: performance.timeOrigin + performance.now(), n: ++count, ...what })); } catch { /* no JSON can hold it */ }
	};
	window.havvelInput = (what) => say({ kind: "input", detail: what });
	const called = (e) => say({ kind: "call", name: e.detail.call, arguments: e.detail.arguments });
	const sent = (e) => say({ kind: "event", name: String((e.detail || {}).event), detail: e.detail });
	const listen = () => { addEventListener("havvel-heard", called); addEventListener("game-event", sent); };
	listen();
	// A page that is written anew loses all that listen to it (HTML standard, section 8.4.1).
	const openPage = Document.prototype.open;
	Document.prototype.open = function () { const d = openPage.apply(this, arguments); if (this === document) listen(); return d; };
	// What is in shadow roots is seen by players, too, also where scripts can't get at it.
	const roots = [], attach = Element.prototype.attachShadow;
	Element.prototype.attachShadow = function () { const r = attach.apply(this, arguments); roots.push(r); return r; };
	const everywhere = (selector) => [document, ...roots.filter((r) => r.isConnected)].flatMap((r) => [...r.querySelectorAll(selector)]);
	window.havvelWords = () => [document.body, ...roots.filter((r) => r.isConnected).flatMap((r) => [...r.children])].map((e) => (e && e.innerText) || "").join("\n");
	// Which parts of the page listen to presses.
	const pressable = new WeakSet(), listenTo = EventTarget.prototype.addEventListener;
	EventTarget.prototype.addEventListener = function (type) {
		if (this instanceof Element && /^(click|pointer(down|up)|mouse(down|up)|touch(start|end))$/.test(type)) pressable.add(this);
		return listenTo.apply(this, arguments);
	};
	// A window that the game opens covers it: players come back from there.
	const openWindow = window.open;
	window.open = function () {
		const w = openWindow.apply(this, arguments);
		if (w && w !== top && w !== window) setTimeout(() => { try { if (w.opener) w.close(); } catch { /* another's */ } }, 500);
		return w;
	};
	// A window without a screen changes its size when it should fill one, in Firefox. It does fill all that there is.
	if (/Firefox/.test(navigator.userAgent)) {
		let filling = null;
		const fill = (e) => {
			filling = e;
			for (const on of [e || document, document]) on.dispatchEvent(new Event("fullscreenchange", { bubbles: on !== document }));
			return Promise.resolve();
		};
		const really = Element.prototype.requestFullscreen;
		Element.prototype.requestFullscreen = function () { return document.fullscreenEnabled ? fill(this) : really.apply(this, arguments); };
		Document.prototype.exitFullscreen = () => fill(null);
		Object.defineProperty(Document.prototype, "fullscreenElement", { get: () => filling, configurable: true });
	}
	const p = { frames: 0, played: 0, drawn: 0, cleared: 0, lost: 0, memories: [] };
	// What players have, or lack.
	const under = (name) => conditions.includes(name);
	const lacks = (on, name, get) => { try { Object.defineProperty(on, name, { get, configurable: true }); } catch { /* it isn't there */ } };
	if (under("no-storage")) {
		const refuse = () => { throw new DOMException("The user refuses storage to other sites.", "SecurityError"); };
		for (const name of ["localStorage", "sessionStorage", "indexedDB", "caches"]) lacks(window, name, refuse);
		Object.defineProperty(Document.prototype, "cookie", { get: () => "", set: () => {}, configurable: true });
	}
	if (under("no-webgpu")) lacks(Navigator.prototype, "gpu", () => undefined);
	if (under("cheap-phone")) lacks(Navigator.prototype, "deviceMemory", () => 2), lacks(Navigator.prototype, "hardwareConcurrency", () => 4);
	// How the game draws: which kinds of calls a frame makes, in stretches of frames that make the same.
	const stretches = [], bits = {}, paces = {}, ticks = {}; // frames of each second of the day: in which it drew, and all
	const second = (at) => Math.floor((performance.timeOrigin + at) / 1000);
	const pace = (of, at) => { of[second(at)] = (of[second(at)] || 0) + 1; };
	let kinds = 0;
	const frame = new MessageChannel(); // so that games on timers are seen, too
	frame.port1.onmessage = () => {
		const at = performance.now(), last = stretches[stretches.length - 1];
		p.played++;
		pace(paces, at);
		if (last && last.kinds === kinds) last.end = at, last.n++;
		else stretches.push({ kinds, begin: at, end: at, n: 1 });
		if (stretches.length > 400) stretches.splice(0, 100);
		kinds = 0;
	};
	const draws = (name) => {
		if (!(name in bits)) bits[name] = 1 << Object.keys(bits).length % 30;
		if (!kinds) frame.port2.postMessage(0);
		kinds |= bits[name];
	};
	// The kinds that most frames of the last while made, and since when they do.
	const pattern = () => {
		const now = performance.now(), many = {};
		for (const s of stretches) if (s.end > now - 1500) many[s.kinds] = (many[s.kinds] || 0) + s.n;
		let best = 0, at = 0;
		for (const k in many) if (!best || many[k] > many[best]) best = +k;
		for (let i = stretches.length - 1; best && i >= 0; i--) {
			if (stretches[i].kinds !== best) continue;
			if (at && at - stretches[i].end > 1000) break;
			at = stretches[i].begin;
		}
		return { kinds: best, at };
	};
	// What is being made of files that have come.
	const making = {};
	const until = (what, promise) => {
		making[what] = (making[what] || 0) + 1;
		const over = () => { making[what]--; };
		Promise.resolve(promise).then(over, over);
		return promise;
	};
	const make = (on, names, what) => on && names.forEach((n) => {
		const known = on[n];
		if (typeof known === "function") on[n] = function () { return until(what, known.apply(this, arguments)); };
	});
	make(window, ["createImageBitmap"], "a picture");
	make(window.BaseAudioContext && BaseAudioContext.prototype, ["decodeAudioData"], "a sound");
	make(window.FontFace && FontFace.prototype, ["load"], "a font");
	make(WebAssembly, ["compile", "compileStreaming", "instantiate", "instantiateStreaming"], "WebAssembly");
	const next = window.requestAnimationFrame.bind(window);
	const tick = (at) => { p.frames++; pace(ticks, at); next(tick); };
	next(tick);
	const watched = new WeakSet(), given = new WeakSet(); // given: canvases whose context the page gave away itself
	const context = HTMLCanvasElement.prototype.getContext, having = new WeakSet(), drawers = new Set();
	HTMLCanvasElement.prototype.getContext = function (kind) {
		if (!watched.has(this)) {
			watched.add(this);
			this.addEventListener("webglcontextlost", () => { if (!given.has(this)) p.lost++; });
		}
		const gl = /webgl/.test(kind), got = gl && under("no-webgl") ? null : context.apply(this, arguments);
		if (gl && !got && !having.has(this)) p.nogl = true;
		if (gl && got) p.nogl = false, drawers.add(got);
		if (got) having.add(this);
		return got;
	};
	// Takes every drawing context away, and gives it back a second later.
	window.havvelLose = () => {
		const list = [...drawers].map((gl) => gl.getExtension("WEBGL_lose_context")).filter((e) => e);
		list.forEach((e) => { e.loseContext(); setTimeout(() => e.restoreContext(), 1000); });
		return list.length;
	};
	const counted = (proto, names, what = "drawn") => proto && names.forEach((n) => {
		const known = proto[n];
		if (typeof known === "function") proto[n] = function () { p[what]++; draws(n); return known.apply(this, arguments); };
	});
	const three = ["drawArrays", "drawElements", "drawArraysInstanced", "drawElementsInstanced", "drawRangeElements", "blitFramebuffer"];
	const flat = ["drawImage", "fillRect", "strokeRect", "fillText", "strokeText", "putImageData", "fill", "stroke"];
	// What textures and buffers take of the graphics card's memory, about: four bytes for each pixel.
	const sizes = new Map(), bound = new WeakMap();
	const slot = (gl, target) => {
		if (!bound.has(gl)) bound.set(gl, { unit: 0, things: {} });
		const b = bound.get(gl);
		return [b, target === 34962 || target === 34963 ? target : b.unit + ":" + (target >= 34069 && target <= 34074 ? 34067 : target)];
	};
	const takes = (gl, target, part, bytes) => {
		const [b, at] = slot(gl, target), thing = b.things[at];
		if (!thing || !(bytes >= 0)) return;
		if (!sizes.has(thing)) sizes.set(thing, {});
		sizes.get(thing)[part] = bytes;
	};
	const after = (proto, name, then) => {
		const known = proto && proto[name];
		if (typeof known === "function") proto[name] = function () { const r = known.apply(this, arguments); then(this, arguments); return r; };
	};
	const side = (s, w, v, n) => s && (s[v] || s[n] || s[w]) || 0;
	const weigh = (proto) => {
		after(proto, "activeTexture", (gl, [unit]) => { slot(gl, 0)[0].unit = unit - 33984; });
		for (const name of ["bindTexture", "bindBuffer"]) after(proto, name, (gl, [target, thing]) => { const [b, at] = slot(gl, target); b.things[at] = thing; });
		for (const name of ["deleteTexture", "deleteBuffer"]) after(proto, name, (_, [thing]) => { sizes.delete(thing); });
		after(proto, "texImage2D", (gl, a) => {
			const s = a[5], w = a.length > 6 ? a[3] : side(s, "width", "videoWidth", "naturalWidth"), h = a.length > 6 ? a[4] : side(s, "height", "videoHeight", "naturalHeight");
			takes(gl, a[0], a[0] + ":" + a[1], w * h * 4);
		});
		after(proto, "texStorage2D", (gl, a) => takes(gl, a[0], "all", a[3] * a[4] * (a[1] > 1 ? 16 / 3 : 4)));
		after(proto, "compressedTexImage2D", (gl, a) => takes(gl, a[0], a[0] + ":" + a[1], a[6] && a[6].byteLength));
		after(proto, "bufferData", (gl, a) => takes(gl, a[0], "all", typeof a[1] === "number" ? a[1] : a[1] && a[1].byteLength));
	};
	for (const kind of ["WebGLRenderingContext", "WebGL2RenderingContext"]) {
		const proto = window[kind] && window[kind].prototype;
		weigh(proto);
		counted(proto, three);
		counted(proto, ["clear"], "cleared");
		const extension = proto && proto.getExtension;
		if (extension) proto.getExtension = function () {
			const e = extension.apply(this, arguments);
			if (e && !watched.has(e)) {
				watched.add(e);
				const lose = e.loseContext, canvas = this.canvas;
				if (lose) e.loseContext = () => { given.add(canvas); return lose.call(e); };
				const own = Object.getPrototypeOf(e), calls = [];
				for (const n in own) if (/^(draw|multiDraw)(Arrays|Elements)/.test(n)) calls.push(n);
				if (!watched.has(own)) watched.add(own), counted(own, calls);
			}
			return e;
		};
	}
	for (const kind of ["CanvasRenderingContext2D", "OffscreenCanvasRenderingContext2D"]) counted(window[kind] && window[kind].prototype, flat);
	counted(window.ImageBitmapRenderingContext && ImageBitmapRenderingContext.prototype, ["transferFromImageBitmap"]);
	counted(window.GPUQueue && GPUQueue.prototype, ["submit"]);
	const handed = new WeakSet(); // canvases that a worker draws on, unseen from here
	const hand = HTMLCanvasElement.prototype.transferControlToOffscreen;
	if (hand) HTMLCanvasElement.prototype.transferControlToOffscreen = function () { handed.add(this); return hand.apply(this, arguments); };
	const keep = (r) => {
		const all = (r && r.instance || r || {}).exports || {};
		for (const k in all) if (all[k] instanceof WebAssembly.Memory) p.memories.push(all[k]);
		return r;
	};
	for (const n of ["instantiate", "instantiateStreaming"]) {
		const known = WebAssembly[n];
		WebAssembly[n] = function () { return known.apply(WebAssembly, arguments).then(keep); };
	}
	const Memory = WebAssembly.Memory;
	WebAssembly.Memory = new Proxy(Memory, { construct(f, a) { const m = new f(...a); p.memories.push(m); return m; } });
	// A gamepad, from its first press on, and a tab that is hidden.
	let pad = null;
	const pads = Navigator.prototype.getGamepads;
	window.havvelPad = (button, down) => {
		const first = !pad;
		pad = pad || { id: "Standard gamepad", index: 0, connected: true, mapping: "standard", axes: [0, 0, 0, 0],
			buttons: Array.from({ length: 17 }, () => ({ pressed: false, touched: false, value: 0 })) };
		pad.timestamp = performance.now();
		pad.buttons[button] = { pressed: down, touched: down, value: down ? 1 : 0 };
		if (!first) return;
		const e = new Event("gamepadconnected");
		e.gamepad = pad;
		window.dispatchEvent(e);
	};
	if (pads) Navigator.prototype.getGamepads = function () { return pad ? [pad, null, null, null] : pads.apply(this, arguments); };
	window.havvelHide = (hidden) => {
		for (const [name, value] of [["hidden", hidden], ["visibilityState", hidden ? "hidden" : "visible"]])
			Object.defineProperty(document, name, { get: () => value, configurable: true });
		document.dispatchEvent(new Event("visibilitychange", { bubbles: true }));
		window.dispatchEvent(new Event(hidden ? "blur" : "focus"));
	};
	// Whether all that moves is a stylesheet's: animations without end, and no script that changes the page beside them.
	let moves = 0, observer = null;
	const styled = () => {
		const endless = document.getAnimations ? document.getAnimations().some((a) => window.CSSAnimation && a instanceof CSSAnimation &&
			a.playState === "running" && a.effect && a.effect.getComputedTiming().iterations === Infinity) : false;
		if (!endless) return false;
		if (!observer) {
			observer = new MutationObserver(() => { moves = performance.now(); });
			observer.observe(document, { subtree: true, attributes: true, childList: true, characterData: true });
			moves = performance.now();
		}
		return performance.now() - moves > 1000;
	};
	const shown = (e) => { const s = getComputedStyle(e); return s.visibility !== "hidden" && s.display !== "none"; };
	// Where there is something to press.
	// A link that leads away from the game is none of its controls.
	const away = (e) => e.localName === "a" && (e.target && e.target !== "_self" || e.protocol !== location.protocol || e.host !== location.host);
	const inView = (e) => {
		const r = e.getBoundingClientRect();
		return shown(e) && !away(e) && r.width > 4 && r.height > 4 && r.left >= 0 && r.top >= 0 && r.right <= innerWidth && r.bottom <= innerHeight;
	};
	// Parts of the page that listen to presses, or where the mouse's pointer says so, are controls, too.
	const listens = (e) => pressable.has(e) || ["onclick", "onpointerdown", "onmousedown", "onpointerup", "onmouseup", "ontouchstart"].some((on) => e[on]);
	const points = (e) => getComputedStyle(e).cursor === "pointer" && getComputedStyle(e.parentElement || e).cursor !== "pointer";
	window.havvelControls = () => {
		const named = everywhere("button, a[href], input, [role=button], [onclick], summary").filter(inView);
		const others = named.length ? [] : everywhere("body *:not(canvas):not(iframe)").slice(0, 2000).filter((e) => (listens(e) || points(e)) && inView(e));
		return [...named, ...others].slice(0, 3).map((e) => { const r = e.getBoundingClientRect(); return [r.left + r.width / 2, r.top + r.height / 2]; });
	};
	// A key does nothing to the page itself, such as to scroll it, while this is on.
	const control = (e) => e.target.closest && e.target.closest("button, a, input, select, textarea, summary, [contenteditable]");
	const remain = (e) => { if (!control(e) && (e.type === "keypress" || String(e.key).startsWith("Arrow"))) e.preventDefault(); };
	window.havvelUnmoved = (on) => {
		for (const type of ["keydown", "keypress"]) on ? addEventListener(type, remain) : removeEventListener(type, remain);
		inner((w) => w.havvelUnmoved(on));
	};
	// The largest canvas, also in frames of the game's own.
	const largest = (doc, x, y) => {
		let canvas = null;
		const better = (o) => { if (o && (!canvas || o.w * o.h > canvas.w * canvas.h)) canvas = o; };
		for (const c of doc === document ? everywhere("canvas") : doc.querySelectorAll("canvas")) {
			const r = c.getBoundingClientRect();
			if (shown(c)) better({ x: x + r.x, y: y + r.y, w: r.width, h: r.height, bw: c.width, bh: c.height, handed: handed.has(c), fit: getComputedStyle(c).objectFit });
		}
		for (const f of doc.querySelectorAll("iframe")) {
			const r = f.getBoundingClientRect();
			try { if (shown(f) && f.contentDocument) better(largest(f.contentDocument, x + r.x, y + r.y)); } catch { /* another's */ }
		}
		return canvas;
	};
	// Frames of each whole second since a time.
	window.havvelPaces = (since) => {
		const list = [];
		for (let s = second(since) + 1; s < second(performance.now()); s++) list.push([paces[s] || 0, ticks[s] || 0]);
		return inner((w) => w.havvelPaces(since + performance.timeOrigin - w.performance.timeOrigin)).reduce(
			(all, more) => all.map((n, i) => [n[0] + (more[i] ? more[i][0] : 0), n[1]]), list);
	};
	// What frames of the game's own have to say.
	const inner = (ask) => {
		const list = [];
		for (let i = 0; i < window.frames.length; i++) {
			try { if (window.frames[i].havvelProbe) list.push(ask(window.frames[i])); } catch { /* another's */ }
		}
		return list;
	};
	window.havvelRenderer = () => {
		const gl = context.call(document.createElement("canvas"), "webgl"), more = gl && gl.getExtension("WEBGL_debug_renderer_info");
		const name = gl ? gl.getParameter(more ? more.UNMASKED_RENDERER_WEBGL : gl.RENDERER) : "";
		if (gl) gl.getExtension("WEBGL_lose_context")?.loseContext();
		return name;
	};
	window.havvelProbe = () => {
		const canvas = largest(document, 0, 0);
		const root = document.documentElement, body = document.body;
		const hides = [root, body].some((e) => e && /hidden|clip/.test(getComputedStyle(e).overflow + getComputedStyle(e).overflowY));
		const drawing = pattern();
		const now = document.fonts && document.fonts.status === "loading" ? "a font" : Object.keys(making).find((k) => making[k] > 0) || "";
		const own = {
			now: performance.now(), played: p.played, pattern: drawing.kinds, patternat: drawing.at, making: now, styled: styled(),
			frames: p.frames, drawn: p.drawn, cleared: p.cleared, lost: p.lost, nogl: !!p.nogl, canvas,
			wasm: [...new Set(p.memories)].reduce((sum, m) => sum + m.buffer.byteLength, 0),
			graphics: [...sizes.values()].reduce((sum, parts) => sum + Object.values(parts).reduce((a, b) => a + b, 0), 0),
			nodes: document.getElementsByTagName("*").length,
			heap: performance.memory ? performance.memory.usedJSHeapSize : 0,
			ready: document.readyState === "complete", vw: window.innerWidth, vh: window.innerHeight, zoom: window.visualViewport ? visualViewport.scale : 1, dpr: window.devicePixelRatio,
			sw: hides ? 0 : root.scrollWidth, sh: hides ? 0 : root.scrollHeight,
		};
		for (const o of inner((w) => w.havvelProbe())) {
			own.wasm += o.wasm, own.graphics += o.graphics, own.nodes += o.nodes, own.lost += o.lost, own.drawn += o.drawn, own.cleared += o.cleared;
			own.making = own.making || o.making, own.styled = own.styled && !o.played, own.nogl = own.nogl || o.nogl;
			if (o.played > own.played) own.played = o.played, own.pattern = o.pattern, own.patternat = o.patternat, own.now = o.now;
		}
		return own;
	};
})
