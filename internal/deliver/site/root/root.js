// Runs first in a game's page that stands at a site's root, while its files are in a version's folder. The base element leads there;
// this does the same for addresses that scripts make out of the page's own, and keeps the page's address what it is.
((version) => {
	const root = location.href.replace(/[?#].*/, "").replace(/[^/]*$/, "");
	if (!/(\/|\/index\.html)$/.test(location.pathname)) { // a host that answers for the folder without its slash
		stop();
		location.replace(location.pathname + "/" + location.search + location.hash);
		return;
	}
	const folder = root + "versions/" + version + "/";
	const page = /^(index\.html)?(?=[?#]|$)/; // what follows the folder in the page's own address
	const base = document.querySelector("base");
	base.href = base.href; // as it is now, whatever the page's address becomes

	fetch(root + "havvel.json", { cache: "no-store" }).then((r) => r.json()).then((index) => {
		if (index.current && index.current !== version && sessionStorage.havvel !== index.current) { // this page came out of a cache
			sessionStorage.havvel = index.current;
			// A reload alone asks whether the page has changed since a second, within which it may have changed.
			const again = () => location.reload();
			fetch(location.href, { cache: "reload" }).then(again, again);
		}
	}).catch(() => {});
	try {
		navigator.serviceWorker?.getRegistrations().then((list) => list.forEach((r) => { // one that an earlier version left
			if (r.scope.startsWith(root) && !r.scope.startsWith(folder)) r.unregister();
		})).catch(() => {});
	} catch { /* in a sandbox there are none */ }

	// down leads a file's address that was made of the page's into the version's folder.
	const down = (address) => {
		if (address == null || typeof address === "object" && !(address instanceof URL)) return address;
		if (typeof address === "string" && address[0] === "/") return address; // of the host, such as a score server
		let to;
		try { to = new URL(address, document.baseURI).href; } catch { return address; }
		const rest = to.startsWith(root) ? to.slice(root.length) : "";
		return !rest || rest.startsWith("versions/") || page.test(rest) ? address : folder + rest;
	};
	// up leads an address of the page itself that was made of the base to the root.
	const up = (address) => {
		const to = new URL(address, location.href).href;
		return to.startsWith(folder) ? root + to.slice(folder.length).replace(page, "") : to;
	};
	const wrap = (on, name, n, change) => {
		const was = on?.[name];
		if (was) on[name] = function (...a) { if (n in a) a[n] = change(a[n]); return was.apply(this, a); };
	};
	wrap(window, "fetch", 0, down);
	wrap(XMLHttpRequest.prototype, "open", 1, down);
	for (const name of ["pushState", "replaceState"]) wrap(history, name, 2, (a) => a == null ? a : up(a));
	const made = (name, change) => {
		if (window[name]) window[name] = new Proxy(window[name], {
			construct(on, a, as) { change(a); return Reflect.construct(on, a, as); },
		});
	};
	for (const name of ["Worker", "SharedWorker", "Request", "Audio", "EventSource"]) made(name, (a) => { if (0 in a) a[0] = down(a[0]); });
	made("FontFace", (a) => {
		if (typeof a[1] === "string") a[1] = a[1].replace(/url\(\s*(["']?)(.*?)\1\s*\)/g, (_, q, u) => `url(${q}${down(u)}${q})`);
	});
	for (const [kind, name] of [["Image", "src"], ["Script", "src"], ["Media", "src"], ["Source", "src"], ["IFrame", "src"],
		["Track", "src"], ["Embed", "src"], ["Object", "data"], ["Link", "href"]]) {
		const on = window[`HTML${kind}Element`].prototype, was = Object.getOwnPropertyDescriptor(on, name);
		Object.defineProperty(on, name, { ...was, set(v) { was.set.call(this, down(v)); } });
	}
	const set = Element.prototype.setAttribute;
	Element.prototype.setAttribute = function (name, v) {
		const file = /^(src|data|poster)$/i.test(name) || /^href$/i.test(name) && this.localName === "link";
		return set.call(this, name, file ? down(v) : v);
	};

	addEventListener("click", (e) => { // links to the page itself
		const a = e.composedPath().find((n) => n.localName === "a" || n.localName === "area"), to = a?.getAttribute("href");
		if (to == null || e.defaultPrevented || e.button || e.metaKey || e.ctrlKey || e.shiftKey || e.altKey) return;
		if (a.hasAttribute("download") || (a.target || "_self") !== "_self") return;
		if (to[0] === "#") { e.preventDefault(); location.hash = to; return; }
		const whole = new URL(to, base.href).href;
		if (whole.startsWith(folder) && page.test(whole.slice(folder.length))) { e.preventDefault(); location.href = up(whole); }
	});
	window.navigation?.addEventListener("navigate", (e) => { // as by location = "?level=2"
		const to = e.destination.url;
		if (!e.cancelable || e.navigationType === "traverse" || e.formData) return;
		if (to.startsWith(folder) && page.test(to.slice(folder.length))) {
			e.preventDefault();
			location[e.navigationType === "replace" ? "replace" : "assign"](up(to));
		}
	});
})
