function (look) {
	"use strict";
	// A bar over the page, until everything that was asked for has come and the game has drawn something.
	const veil = document.createElement("div");
	veil.id = "havvel-front";
	veil.setAttribute("role", "progressbar");
	veil.setAttribute("aria-label", "Loading");
	veil.style.cssText = "position:fixed;inset:0;z-index:2147483000;display:flex;flex-direction:column;gap:24px;align-items:center;justify-content:center;transition:opacity .4s;background:" + (look.background || "#000");
	if (look.picture) {
		const art = document.createElement("img");
		art.src = look.picture;
		art.alt = "";
		art.style.cssText = "max-width:70vw;max-height:60vh";
		veil.append(art);
	}
	const bar = document.createElement("div");
	if (look.bar) {
		const rail = document.createElement("div");
		rail.style.cssText = "width:min(60vw,320px);height:6px;border-radius:3px;overflow:hidden;background:rgba(128,128,128,.35)";
		bar.style.cssText = "width:0;height:100%;border-radius:3px;background:" + look.bar;
		rail.append(bar);
		veil.append(rail);
	}
	document.documentElement.append(veil);
	let come = 0, open = 0, quiet = 0, loaded = false;
	const count = (bytes) => {
		come += bytes;
		bar.style.width = Math.min(96, (100 * come) / Math.max(1, look.bytes)) + "%";
	};
	// The browser tells of each file once all of it has come.
	new PerformanceObserver((list) => {
		for (const e of list.getEntries()) {
			count(e.encodedBodySize || 0);
			if (e.initiatorType === "fetch") open = Math.max(0, open - 1);
		}
	}).observe({ type: "resource", buffered: true });
	const fetched = window.fetch;
	window.fetch = function () {
		open++;
		const answer = fetched.apply(this, arguments);
		const over = () => (open = Math.max(0, open - 1));
		answer.then((a) => (window.havvelHeld || /^(data|blob):/.test(a.url)) && over(), over); // of these the browser does not tell
		return answer;
	};
	const send = XMLHttpRequest.prototype.send;
	XMLHttpRequest.prototype.send = function () {
		open++;
		this.addEventListener("loadend", () => open--, { once: true });
		return send.apply(this, arguments);
	};
	window.addEventListener("load", () => (loaded = true));
	const away = () => {
		clearInterval(timer);
		bar.style.width = "100%";
		veil.style.opacity = 0;
		setTimeout(() => veil.remove(), 400);
	};
	window.addEventListener("error", away);
	window.addEventListener("unhandledrejection", away);
	const timer = setInterval(() => {
		quiet = loaded && open === 0 && document.querySelector("canvas") ? quiet + 1 : 0;
		if (quiet > 4) away();
	}, 120);
}
