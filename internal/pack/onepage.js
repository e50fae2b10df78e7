(function () {
	"use strict";
	// Files that the game loads by name come out of the page that holds them.
	const here = document.baseURI.replace(/[^/]*([?#].*)?$/, "");
	const made = {};
	const held = {};
	for (const e of document.querySelectorAll("script[data-havvel]")) {
		held[e.dataset.havvel] = e;
	}
	function name(address) {
		let s = String(address);
		if (here && s.startsWith(here)) s = s.slice(here.length);
		if (/^([a-z][a-z0-9+.-]*:|\/\/)/i.test(s)) return "";
		try {
			return decodeURIComponent(new URL(s, "http://page/").pathname.slice(1));
		} catch (e) {
			return "";
		}
	}
	function inside(address) {
		const n = name(address);
		if (!n || !Object.hasOwn(held, n)) return address;
		if (!made[n]) {
			const bytes = Uint8Array.from(atob(held[n].textContent), (c) => c.charCodeAt(0));
			made[n] = URL.createObjectURL(new Blob([bytes], { type: held[n].dataset.type }));
			held[n].remove();
		}
		return made[n];
	}
	const fetched = window.fetch;
	window.fetch = function (what, how) {
		const address = what instanceof Request ? what.url : what;
		const other = inside(address);
		return other === address ? fetched.call(this, what, how) : fetched.call(this, other);
	};
	const opened = XMLHttpRequest.prototype.open;
	XMLHttpRequest.prototype.open = function (method, address, ...rest) {
		return opened.call(this, method, inside(address), ...rest);
	};
	for (const kind of ["Worker", "SharedWorker"]) {
		const known = window[kind];
		if (known) window[kind] = class extends known {
			constructor(address, ...rest) {
				super(inside(address), ...rest);
			}
		};
	}
	for (const kind of [HTMLImageElement, HTMLMediaElement, HTMLScriptElement, HTMLSourceElement]) {
		const known = Object.getOwnPropertyDescriptor(kind.prototype, "src");
		Object.defineProperty(kind.prototype, "src", { ...known, set(address) { known.set.call(this, inside(address)); } });
	}
	const set = Element.prototype.setAttribute;
	Element.prototype.setAttribute = function (attribute, value) {
		return set.call(this, attribute, /^src$/i.test(attribute) ? inside(value) : value);
	};
})();
