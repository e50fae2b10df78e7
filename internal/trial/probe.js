(function () {
	"use strict";
	// Watches what a page draws and how much memory it takes, without changing what it does.
	const p = { frames: 0, drawn: 0, lost: 0, memories: [] };
	const next = window.requestAnimationFrame.bind(window);
	const tick = () => { p.frames++; next(tick); };
	next(tick);
	const watched = new WeakSet();
	const context = HTMLCanvasElement.prototype.getContext;
	HTMLCanvasElement.prototype.getContext = function () {
		if (!watched.has(this)) {
			watched.add(this);
			this.addEventListener("webglcontextlost", () => p.lost++);
		}
		return context.apply(this, arguments);
	};
	const count = (proto, names) => proto && names.forEach((n) => {
		const known = proto[n];
		if (known) proto[n] = function () { p.drawn++; return known.apply(this, arguments); };
	});
	const three = ["drawArrays", "drawElements", "drawArraysInstanced", "drawElementsInstanced", "drawRangeElements"];
	count(window.WebGLRenderingContext && WebGLRenderingContext.prototype, three);
	count(window.WebGL2RenderingContext && WebGL2RenderingContext.prototype, three);
	count(CanvasRenderingContext2D.prototype, ["drawImage", "fillRect", "fillText", "putImageData", "fill", "stroke"]);
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
	const shown = (e) => { const s = getComputedStyle(e); return s.visibility !== "hidden" && s.display !== "none"; };
	window.havvelProbe = () => {
		let canvas = null;
		for (const c of document.querySelectorAll("canvas")) {
			const r = c.getBoundingClientRect();
			if (shown(c) && (!canvas || r.width * r.height > canvas.w * canvas.h))
				canvas = { x: r.x, y: r.y, w: r.width, h: r.height, bw: c.width, bh: c.height, fitted: getComputedStyle(c).objectFit !== "fill" };
		}
		const root = document.documentElement, body = document.body;
		const hides = [root, body].some((e) => e && /hidden|clip/.test(getComputedStyle(e).overflow + getComputedStyle(e).overflowY));
		return {
			frames: p.frames, drawn: p.drawn, lost: p.lost, canvas,
			wasm: [...new Set(p.memories)].reduce((sum, m) => sum + m.buffer.byteLength, 0),
			heap: performance.memory ? performance.memory.usedJSHeapSize : 0,
			ready: document.readyState === "complete", vw: window.innerWidth, vh: window.innerHeight, dpr: window.devicePixelRatio,
			sw: hides ? 0 : root.scrollWidth, sh: hides ? 0 : root.scrollHeight,
		};
	};
})();
