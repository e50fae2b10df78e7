// Hold has a scope (a page, a frame, a worker) find the files of a game that one page holds, wherever the game looks for them. What runs in
// it sees the addresses that the files would have on a host.
function havvelHold(self, held) {
	"use strict";
	// held.files: by name, the file's type, its length, and where it is: an address, or a function that gives one.
	// held.real: the folder in which the game believes to be. held.roots: other folders that mean the same. held.at: this scope's own address.
	const { files, real, texts } = held, document = self.document, back = new Map(), absent = {};
	const opaque = self.origin === "null"; // then a frame's page can't be reached from this one
	const own = (o, k) => Object.prototype.hasOwnProperty.call(o, k);
	const known = { fetch: self.fetch, createObjectURL: self.URL.createObjectURL.bind(self.URL), Worker: self.Worker };
	const base = () => (document ? document.baseURI : held.at);
	const address = (name) => real + name.split("/").map(encodeURIComponent).join("/");

	// nameOf is the file that an address leads to; absent for one that would be in the game's folder and isn't, "" for one elsewhere.
	function nameOf(text, from) {
		let u;
		try {
			u = new URL(String(text), from || base());
		} catch (e) {
			return "";
		}
		const whole = u.href.replace(/[?#].*$/s, "");
		let inside = null;
		for (const root of u.protocol === "held:" ? ["held:/"] : [real, ...held.roots]) {
			if (inside === null && whole.startsWith(root)) {
				try {
					inside = decodeURIComponent(whole.slice(root.length));
				} catch (e) {
					inside = whole.slice(root.length);
				}
				if (!own(files, inside) && own(files, inside.replace(/\/?$/, "/").replace(/^\//, "") + "index.html")) inside = inside.replace(/\/?$/, "/").replace(/^\//, "") + "index.html";
				if (own(files, inside)) return inside;
				if (root !== real) inside = null;
			}
		}
		return inside === null ? "" : absent;
	}

	function place(name) {
		const f = files[name];
		if (typeof f[2] === "function") f[2] = f[2]();
		back.set(f[2], name);
		return f[2];
	}

	// In a frame whose origin is its own nothing loads that this page holds, so all is put into what is written there.
	let within = false;
	function whole(url, type) {
		const x = new XMLHttpRequest();
		opened.call(x, "GET", url, false);
		x.overrideMimeType("text/plain; charset=x-user-defined");
		sent.call(x);
		return "data:" + type.replace(/\s/g, "") + ";base64," + btoa(x.responseText.replace(/[^\0-\xff]/g, (c) => String.fromCharCode(c.charCodeAt(0) & 255)));
	}
	function inside(write) {
		const was = within;
		within = true;
		try {
			return write();
		} finally {
			within = was;
		}
	}

	// made keeps addresses of texts that were rewritten.
	const made = new Map();
	function remade(kind, name, type, text) {
		const key = (within ? "within " : "") + kind + name;
		if (!made.has(key)) {
			made.set(key, "data:,"); // a circle ends here
			const url = known.createObjectURL(new Blob([text()], { type }));
			back.set(url, name);
			made.set(key, url);
		}
		return made.get(key);
	}

	function textOf(name) {
		if (texts && own(texts, name)) return texts[name];
		const x = new XMLHttpRequest();
		opened.call(x, "GET", place(name), false);
		sent.call(x);
		return x.responseText;
	}

	// to is the address that holds what an address leads to.
	function to(text, from) {
		if (typeof text !== "string" || text === "" || text[0] === "#") return text;
		const name = nameOf(text, from);
		if (!name || name === absent) return text;
		const hash = /#.*$/s.exec(text), type = files[name][0];
		const url = /^text\/css/.test(type) ? sheet(name) : /svg\+xml/.test(type) && texts ? drawing(name) : place(name);
		return (within ? whole(url, type) : url) + (hash ? hash[0] : "");
	}
	const sheet = (name) => remade("css ", name, "text/css", () => styled(textOf(name), address(name)));
	const drawing = (name) => remade("svg ", name, "image/svg+xml", () => opaque ? inside(() => marked(textOf(name), address(name))) : marked(textOf(name), address(name)));
	const from = (text) => (typeof text === "string" && back.has(text.replace(/#.*$/s, "")) ? address(back.get(text.replace(/#.*$/s, ""))) : text);

	// styled is a style's text with the addresses in it that hold what it names.
	function styled(css, at) {
		if (typeof css !== "string" || !/url\(|@import|image-set\(/i.test(css)) return css;
		// Sets of pictures name them by plain texts, too.
		css = css.replace(/image-set\(((?:[^()"']|"[^"]*"|'[^']*'|\([^()]*\))*)\)/gi, (all) => all.replace(/(image-set\(\s*|,\s*)("[^"]*"|'[^']*')/gi, "$1url($2)"));
		const unescaped = (s) => s.replace(/\\([0-9a-f]{1,6}\s?|.)/gi, (m, c) => (/^[0-9a-f]/i.test(c) ? String.fromCodePoint(parseInt(c, 16)) : c));
		return css.replace(/\/\*[\s\S]*?\*\/|url\(\s*("(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*'|[^)'"]*?)\s*\)|(@import\s+)("[^"]*"|'[^']*')/gi, (all, url, imports, text) => {
			if (url === undefined && text === undefined) return all;
			const inner = unescaped((url === undefined ? text : url).replace(/^["']|["']$/g, ""));
			const with_ = to(inner, at);
			return with_ === inner ? all : (imports || "url(") + '"' + with_ + '"' + (imports ? "" : ")");
		});
	}

	// kinds of attributes, by the elements that have them.
	const addresses = { src: /^(img|audio|video|source|track|script|embed|input|iframe|frame)$/, href: /^(link|image|use|feimage)$/, "xlink:href": /^(image|use|feimage|script)$/, poster: /^video$/, data: /^object$/, background: /^(body|table|td)$/ };
	const isPage = (name) => name && name !== absent && /^text\/html/.test(files[name][0]);

	// led is where an address leads players: to this page, which is asked for another one that it holds, or to another held file.
	function led(text, at) {
		const name = nameOf(text, at);
		if (/^#/.test(text) || !isPage(name) || !/^(https?|file):/.test(held.own)) return to(text, at);
		// What the host put into the address stays, before the page that is asked for; what the game puts there stands behind it.
		const there = new URL(text, at || base()), ask = name === held.entry && !there.search ? "" : held.ask + "=" + encodeURIComponent(name);
		const query = [new URL(held.own).search.slice(1).split("&").filter((p, i, l) => l.slice(0, i + 1).every((q) => !q.startsWith(held.ask + "="))).join("&"), ask, there.search.slice(1)];
		return held.own.replace(/\?.*$/s, "") + query.filter((q) => q).join("&").replace(/^./, "?$&") + (there.hash || (/#$/.test(text) ? "#" : ""));
	}
	// apart says that addresses begin elsewhere than where the browser believes to be.
	const apart = !held.frame && held.page !== held.entry;
	// Where frames can't be written to, each asks for its page by the address of this one.
	const sealed = opaque && /^https?:/.test(held.own);
	// leads is where an attribute leads to now, "" for where it did. What was set is kept beside it: games compare what they read with what they set.
	const mark = self.havvelHeld ? self.havvelHeld.mark + "-in" : "data-held"; // of a page within a page is another one
	const kept = mark + "-set", told = (tag, attribute) => !/^iframe$/i.test(tag) && /^(href|src)$/i.test(attribute);
	function leads(tag, attribute, value, at) {
		const what = (tag + " " + attribute).toLowerCase();
		if (!/^(a|area) (xlink:)?href$/.test(what) && !(sealed && what === "iframe src" && isPage(nameOf(value, at)))) return "";
		const other = led(value, at);
		return other === value ? "" : other;
	}

	// changed is what an attribute becomes.
	function changed(tag, attribute, value, at) {
		const a = attribute.toLowerCase(), t = tag.toLowerCase();
		if (a === "style") return styled(value, at);
		if (a === "srcdoc") return inside(() => marked(value, at)); // of a frame that can't be written to
		if (a === "srcset" || a === "imagesrcset") return value.replace(/([^\s,]\S*[^\s,]|[^\s,])(\s+[^,]*)?(,|$)/g, (all, url, size, end) => to(url, at) + (size || "") + end);
		return addresses[a] && addresses[a].test(t) ? to(value, at) : value;
	}
	// A frame's held page is written into it, and its address kept beside it: a frame that goes nowhere is there at once.
	const framed = mark + "-src";
	const frames = (tag, attribute, value, at) => !sealed && /^iframe$/i.test(tag) && /^src$/i.test(attribute) && isPage(nameOf(value, at)) && new URL(value, at || base()).href;

	// A frame's own text is written into it as a held page is.
	const texted = mark + "-text";
	const walled = (sandbox) => opaque || sandbox !== null && !/allow-same-origin/i.test(sandbox);
	const writes = (tag, attribute, sandbox) => /^iframe$/i.test(tag) && /^srcdoc$/i.test(attribute) && !walled(sandbox);

	// marked is HTML or SVG with the addresses in it that hold what it names. seen gets the page's base and import map.
	function marked(html, at, seen) {
		if (typeof html !== "string" || html.indexOf("<") < 0) return html;
		let here = at, raw = "";
		return html.replace(/<!--[\s\S]*?-->|<(\/?)([a-zA-Z][^\s\/>]*)((?:[^>"']|"[^"]*"|'[^']*')*)>([^<]*)/g, (all, end, tag, rest, after, offset) => {
			if (tag === undefined) return all;
			const t = tag.toLowerCase();
			if (raw) {
				if (!end || t !== raw) return all;
				raw = "";
				return all;
			}
			if (end) return all;
			if (t === "style" && html.indexOf("</style", offset) > 0) after = styled(after, here);
			if (t === "script" || t === "style" || t === "textarea" || t === "title") raw = t;
			const get = (name) => (new RegExp("(?:^|\\s)" + name + "\\s*=\\s*(\"[^\"]*\"|'[^']*'|[^\\s>]+)", "i").exec(rest) || ["", ""])[1].replace(/^["']|["']$/g, "");
			if (t === "link" && /^(preload|modulepreload|prefetch|manifest)$/i.test(get("rel"))) return after;
			if (t === "meta" && /content-security-policy/i.test(get("http-equiv"))) return after;
			if (t === "base" && get("href")) {
				here = new URL(get("href"), at || base()).href;
				if (seen && !seen.base) seen.base = here;
			}
			if (t === "script" && /^importmap$/i.test(get("type"))) {
				if (!seen) return mapped(after, here || base()) + "<script type=held-importmap>";
				if (!seen.map) seen.map = after;
				return "<script type=held-importmap>" + after;
			}
			return "<" + tag + rest.replace(/([^\s=\/"'>]+)(\s*=\s*)("[^"]*"|'[^']*'|[^\s"'>]+)/g, (one, name, is, quoted) => {
				if (/^integrity$/i.test(name)) return "";
				const value = quoted.replace(/^["']|["']$/g, "").replace(/&amp;/g, "&").replace(/&quot;/g, '"').replace(/&#39;|&apos;/g, "'");
				const lead = leads(tag, name, value, here), quote = (v) => '"' + v.replace(/&/g, "&amp;").replace(/"/g, "&quot;") + '"';
				if (lead) return name + is + quote(lead) + " " + kept + "=" + quote(value);
				const page = frames(tag, name, value, here);
				if (page) name = framed;
				else if (writes(t, name, /(^|\s)sandbox(?=[\s=\/]|$)/i.test(rest) ? get("sandbox") : null)) return texted + is + quote(value);
				const other = page || changed(tag, name, value, here);
				return other === value ? one : name + is + quote(other) + (told(t, name) && !page ? " " + kept + "=" + quote(value) : "");
			}) + ">" + after;
		});
	}

	// module is the address of a module, with what it imports in the addresses that hold it: for where import maps don't reach.
	const module = (name) => remade("module ", name, "text/javascript", () => textOf(name).replace(/(["'])held:\/([^"'?#]*)([^"']*)\1/g, (all, q, path) => {
		const other = decodeURIComponent(path);
		return own(files, other) ? q + module(other) + q : all;
	}));

	// What scripts of modules ask for.
	self.havvelHeld = {
		held, nameOf, place, absent, marked, address, mark,
		from: (name) => (what, how) => {
			const at = address(name), mapped = (document && held.bare && held.bare[what]) || what, file = nameOf(mapped, at);
			const url = file && file !== absent ? (document ? place(file) : module(file)) : mapped;
			return how === undefined ? import(url) : import(url, how);
		},
		meta: (name) => ({ url: address(name), resolve: (what) => (held.bare && held.bare[what]) || new URL(what, address(name)).href }),
	};

	const patch = (object, name, make) => {
		const was = object && object[name];
		if (typeof was === "function") Object.defineProperty(object, name, { value: make(was), configurable: true, writable: true, enumerable: own(object, name) && Object.prototype.propertyIsEnumerable.call(object, name) });
	};
	const access = (proto, name, set, get) => {
		const was = proto && Object.getOwnPropertyDescriptor(proto, name);
		if (!was || !was.configurable || !was.get) return;
		Object.defineProperty(proto, name, { ...was, get() { return get ? get.call(this, was.get.call(this)) : was.get.call(this); }, set: was.set && function (v) { was.set.call(this, set.call(this, v)); } });
	};

	// fetch and XMLHttpRequest answer as a host would.
	const answer = (r, url) => {
		Object.defineProperty(r, "url", { value: url, configurable: true });
		const clone = r.clone;
		r.clone = function () { return answer(clone.call(this), url); };
		return r;
	};
	self.fetch = async function fetch(what, how) {
		const request = self.Request && what instanceof Request, url = request ? what.url : String(what), name = nameOf(url);
		if (!name) return known.fetch.call(self, what, how);
		const whole = new URL(url, base()).href.replace(/#.*$/s, "");
		const signal = (how && how.signal) || (request && what.signal);
		if (signal) signal.throwIfAborted();
		if (name === absent) return answer(new Response("", { status: 404, statusText: "Not Found" }), whole);
		const [type, length] = files[name], headers = new Headers((how && how.headers) || (request ? what.headers : {}));
		const range = /^bytes=(\d*)-(\d*)$/.exec(headers.get("range") || ""), head = /^head$/i.test((how && how.method) || (request ? what.method : ""));
		const got = head ? null : await known.fetch.call(self, place(name), signal ? { signal } : {});
		if (!range) return answer(new Response(got && got.body, { status: 200, headers: { "content-type": type, "content-length": String(length), "accept-ranges": "bytes" } }), whole);
		const start = range[1] === "" ? Math.max(0, length - range[2]) : +range[1], end = range[1] === "" || range[2] === "" ? length - 1 : Math.min(length - 1, +range[2]);
		if (start >= length) return answer(new Response("", { status: 416, headers: { "content-range": "bytes */" + length } }), whole);
		const part = got && (await got.blob()).slice(start, end + 1, type);
		return answer(new Response(part, { status: 206, headers: { "content-type": type, "content-length": String(end - start + 1), "content-range": `bytes ${start}-${end}/${length}` } }), whole);
	};
	// Some browsers tell no progress of what is held.
	const watched = new WeakMap();
	function progress(x, length) {
		if (!watched.has(x)) {
			x.addEventListener("progress", (e) => { if (watched.has(x)) watched.get(x).told = e.lengthComputable && e.loaded === e.total; });
			x.addEventListener("readystatechange", () => {
				const w = watched.get(x);
				if (w && x.readyState === 4 && x.status === 200 && !w.told && w.length) x.dispatchEvent(new ProgressEvent("progress", { lengthComputable: true, loaded: w.length, total: w.length }));
			});
		}
		watched.set(x, { length, told: false });
	}
	const opened = self.XMLHttpRequest && XMLHttpRequest.prototype.open, sent = self.XMLHttpRequest && XMLHttpRequest.prototype.send;
	patch(self.XMLHttpRequest && XMLHttpRequest.prototype, "open", (was) => function open(method, url, ...rest) {
		const name = nameOf(url);
		if (!name) {
			watched.delete(this);
			return was.call(this, method, url, ...rest);
		}
		const whole = new URL(url, base()).href, say = (values) => { for (const k in values) Object.defineProperty(this, k, { get: () => values[k], configurable: true }); };
		say({ responseURL: whole });
		progress(this, name === absent ? 0 : files[name][1]);
		if (name === absent) say({ status: 404, statusText: "Not Found", response: null, responseText: "" });
		return was.call(this, /^head$/i.test(method) ? "GET" : method, name === absent ? "data:," : place(name), ...rest);
	});

	// Workers have a start that makes this of them.
	const scripts = new Map(); // what the game made blobs of
	if (self.URL.createObjectURL) {
		patch(self.URL, "createObjectURL", (was) => function createObjectURL(what) {
			const url = was.call(self.URL, what);
			if (what instanceof Blob && /script|^$/.test(what.type)) scripts.set(url, what);
			return url;
		});
		patch(self.URL, "revokeObjectURL", (was) => function revokeObjectURL(url) {
			scripts.delete(url);
			return was.call(self.URL, url);
		});
	}
	function started(url, options) {
		const text = String(url), name = nameOf(text), game = scripts.get(text), modules = options && options.type === "module";
		if (game ? false : !name || name === absent) return null;
		const table = {};
		for (const n in files) table[n] = [files[n][0], files[n][1], place(n)];
		const at = game ? real : new URL(text, base()).href;
		const hold = `(${havvelHold})(self, ${JSON.stringify({ files: table, real, roots: held.roots, at, worker: true })});\n`;
		const script = game ? known.createObjectURL(new Blob([game], { type: "text/javascript" })) : modules ? module(name) : place(name);
		const blob = (code) => known.createObjectURL(new Blob([code], { type: "text/javascript" }));
		if (!modules) return blob(hold + `importScripts(${JSON.stringify(script)});`);
		if (!opaque) return blob(`import ${JSON.stringify(blob(hold))};\nimport ${JSON.stringify(script)};`);
		// There, workers can't be modules; one that imports a module keeps what it is told until that is there.
		return blob(hold + `{ const kept = [], keep = (e) => { e.stopImmediatePropagation(); kept.push(e); };
			addEventListener("message", keep);
			import(${JSON.stringify(script)}).then(() => { removeEventListener("message", keep); for (const e of kept) dispatchEvent(new MessageEvent("message", { data: e.data, ports: [...e.ports] })); }, (e) => setTimeout(() => { throw e; })); }`);
	}
	for (const kind of ["Worker", "SharedWorker"]) {
		const was = self[kind];
		if (was) self[kind] = class extends was {
			constructor(url, options) {
				const other = started(url, options);
				super(other || url, other && options && options.type === "module" && opaque ? { ...options, type: "classic" } : options);
			}
		};
		if (was) Object.defineProperty(self[kind], "name", { value: kind });
	}
	patch(self, "importScripts", (was) => function importScripts(...urls) { return was.apply(self, urls.map((u) => to(String(u)))); });
	patch(self.Worklet && Worklet.prototype, "addModule", (was) => function addModule(url, how) {
		const name = nameOf(url);
		return was.call(this, name && name !== absent ? module(name) : url, how);
	});
	if (self.FontFace) {
		const was = self.FontFace;
		self.FontFace = class FontFace extends was { constructor(family, source, more) { super(family, typeof source === "string" ? styled(source) : source, more); } };
	}
	if (!document) {
		const l = new URL(held.at), where = {};
		for (const k of ["href", "origin", "protocol", "host", "hostname", "port", "pathname", "search", "hash"]) where[k] = l[k];
		where.toString = () => l.href;
		Object.defineProperty(self, "location", { value: where, configurable: true });
		return;
	}

	const attribute = Element.prototype.getAttribute, setting = Element.prototype.setAttribute;
	// set is what an element's attribute becomes.
	function set(e, name, value) {
		const other = changed(e.localName, name, value);
		if (told(e.localName, name)) other === value ? e.removeAttribute(kept) : setting.call(e, kept, value);
		return other;
	}
	// Elements: what is set becomes the address that holds it, what is read the one that was set.
	const proto = (name) => self[name] && self[name].prototype;
	for (const [names, attribute] of [
		["HTMLImageElement HTMLMediaElement HTMLSourceElement HTMLTrackElement HTMLScriptElement HTMLEmbedElement HTMLInputElement", "src"], ["HTMLLinkElement", "href"],
		["HTMLVideoElement", "poster"], ["HTMLObjectElement", "data"], ["HTMLImageElement HTMLSourceElement", "srcset"],
	]) {
		for (const name of names.split(" ")) access(proto(name), attribute, function (v) { return set(this, attribute, String(v)); }, from);
	}
	const asSet = (e, get) => {
		const set = attribute.call(e, kept);
		return set === null ? from(get.call(e)) : new URL(set, base()).href;
	};
	const src = self.HTMLIFrameElement && Object.getOwnPropertyDescriptor(HTMLIFrameElement.prototype, "src");
	if (src) Object.defineProperty(HTMLIFrameElement.prototype, "src", { ...src, get() { return attribute.call(this, framed) || asSet(this, src.get); }, set(v) { this.setAttribute("src", v); } });
	access(proto("HTMLImageElement"), "currentSrc", null, from);
	access(proto("HTMLMediaElement"), "currentSrc", null, from);
	access(proto("SVGAnimatedString"), "baseVal", (v) => to(v), from);
	for (const name of ["HTMLAnchorElement", "HTMLAreaElement"]) {
		const href = Object.getOwnPropertyDescriptor(proto(name), "href");
		Object.defineProperty(proto(name), "href", { ...href, get() { return asSet(this, href.get); }, set(v) { this.setAttribute("href", v); } });
	}
	access(proto("HTMLScriptElement"), "integrity", () => "");
	access(proto("Element"), "innerHTML", (v) => marked(v));
	access(proto("Element"), "outerHTML", (v) => marked(v));
	access(proto("ShadowRoot"), "innerHTML", (v) => marked(v));
	patch(proto("DOMParser"), "parseFromString", (was) => function parseFromString(text, type) { return was.call(this, /html|svg/.test(type) ? marked(String(text)) : text, type); });
	const srcdoc = self.HTMLIFrameElement && Object.getOwnPropertyDescriptor(HTMLIFrameElement.prototype, "srcdoc");
	if (srcdoc) Object.defineProperty(HTMLIFrameElement.prototype, "srcdoc", { ...srcdoc, get() { return attribute.call(this, texted) || srcdoc.get.call(this); }, set(v) { this.setAttribute("srcdoc", v); } });
	access(proto("CSSStyleDeclaration"), "cssText", (v) => styled(v));
	// Some browsers give a style's properties to each style by itself, so that another one stands in front of each.
	const fronts = new WeakMap(), styles = new WeakMap();
	const front = { set: (style, name, value) => Reflect.set(style, name, styled(value), style), get: (style, name) => style[name] };
	for (const name of Object.getOwnPropertyNames(proto("CSSStyleDeclaration"))) {
		if (name !== "constructor" && typeof Object.getOwnPropertyDescriptor(proto("CSSStyleDeclaration"), name).value === "function") {
			patch(proto("CSSStyleDeclaration"), name, (was) => function (...list) { return was.apply(styles.get(this) || this, list); });
		}
	}
	for (const name of ["HTMLElement", "SVGElement", "MathMLElement", "CSSStyleRule"]) access(proto(name), "style", (v) => styled(v), (style) => {
		let one = fronts.get(style);
		if (!one) {
			fronts.set(style, one = new Proxy(style, front));
			styles.set(one, style);
		}
		return one;
	});
	patch(proto("CSSStyleDeclaration"), "setProperty", (was) => function (k, v, ...rest) { return was.call(this, k, styled(v), ...rest); });
	for (const name of ["insertRule", "replace", "replaceSync"]) patch(proto("CSSStyleSheet"), name, (was) => function (css, ...rest) { return was.call(this, styled(css), ...rest); });
	patch(proto("Element"), "setAttribute", (was) => function setAttribute(k, v) {
		const page = frames(this.localName, String(k), String(v)), lead = leads(this.localName, String(k), String(v));
		if (lead) return was.call(this, kept, v), was.call(this, k, lead);
		if (writes(this.localName, String(k), attribute.call(this, "sandbox"))) return was.call(this, texted, v);
		if (/^(href|src)$/i.test(k)) this.removeAttribute(kept);
		return page ? was.call(this, framed, page) : was.call(this, k, set(this, String(k), String(v)));
	});
	patch(proto("Element"), "setAttributeNS", (was) => function setAttributeNS(n, k, v) { return was.call(this, n, k, set(this, String(k), String(v))); });
	patch(proto("Element"), "getAttribute", (was) => function getAttribute(k) {
		const value = was.call(this, k), set = value !== null && /^(href|src)$/i.test(k) ? was.call(this, kept) : null;
		return set !== null ? set : (this.localName === "iframe" && was.call(this, { src: framed, srcdoc: texted }[String(k).toLowerCase()] || k)) || from(value);
	});
	patch(proto("Element"), "insertAdjacentHTML", (was) => function (where, html) { return was.call(this, where, marked(html)); });
	patch(proto("Range"), "createContextualFragment", (was) => function (html) { return was.call(this, marked(html)); });
	patch(self, "open", (was) => function open(url, ...rest) { return was.call(self, url === undefined || url === "" ? url : led(String(url)), ...rest); });
	const known_ = { open: document.open, write: document.write, close: document.close };
	let pending = "";
	const write = (text) => {
		text = pending + text;
		const cut = text.lastIndexOf("<");
		pending = cut >= 0 && text.indexOf(">", cut) < 0 ? text.slice(cut) : "";
		known_.write.call(document, marked(pending ? text.slice(0, cut) : text));
	};
	document.write = (...list) => write(list.join(""));
	document.writeln = (...list) => write(list.join("") + "\n");
	document.close = () => {
		if (pending) known_.write.call(document, marked(pending));
		pending = "";
		return known_.close.call(document);
	};
	if (self.Audio) {
		const was = self.Audio;
		self.Audio = class Audio extends was { constructor(url) { super(); if (url !== undefined) { this.preload = "auto"; this.src = url; } } };
	}
	// There is no service worker; who asks for one goes on without it.
	if ("serviceWorker" in self.navigator) {
		const none = () => Promise.resolve(undefined), hears = { addEventListener() { }, removeEventListener() { }, dispatchEvent: () => true };
		const registration = { scope: real, installing: null, waiting: null, active: null, update: none, unregister: () => Promise.resolve(true), ...hears };
		Object.defineProperty(self.navigator, "serviceWorker", { configurable: true, value: {
			controller: null, ready: new Promise(() => { }), startMessages() { }, getRegistration: none, getRegistrations: () => Promise.resolve([]), ...hears,
			register: () => { console.warn("havvel: a game in one page has no service worker"); return Promise.resolve(registration); },
		} });
	}

	// A frame that is to hold a page has an empty one first, for which nobody waits, and some browsers give it another one after that.
	const loaded = new WeakSet();
	const emptied = (e) => {
		const frame = e.target, inner = frame.localName === "iframe" && frame.contentWindow;
		if (!inner) return;
		loaded.add(frame);
		let d = null;
		try { d = frame.contentDocument; } catch (e) { d = null; }
		if (!d || attribute.call(frame, framed) === null && attribute.call(frame, texted) === null || inner.havvelHeld || inner.havvelBegin) return;
		e.stopImmediatePropagation();
		frame.havvelFilled = "";
		fill(frame);
	};
	// fill writes a held page into a frame.
	function fill(frame, tries = 0) {
		const text = attribute.call(frame, texted), url = text === null ? attribute.call(frame, framed) : base();
		const name = text === null ? url && nameOf(url) : held.page, filled = text === null ? url : "text " + text, inner = frame.contentWindow;
		if (text === null && !isPage(name) || frame.havvelFilled === filled) return;
		if (!loaded.has(frame)) {
			setTimeout(() => { loaded.add(frame); fill(frame); }, 300); // in a shadow tree, where loading isn't heard
			return;
		}
		frame.havvelFilled = filled;
		let d = null;
		try { d = frame.contentDocument; } catch (e) { d = null; }
		if (!d) return;
		d.open();
		if (d.readyState !== "loading" && tries < 100) { // the frame can't be written to yet
			frame.havvelFilled = "";
			setTimeout(() => fill(frame, tries + 1), 10);
			return;
		}
		if (text === null) try { inner.history.replaceState(null, "", url); } catch (e) { } // then it has this page's address
		inner.havvelGiven = { files, real, roots: held.roots, texts, at: url, bare: held.bare, page: name, frame: true, entry: held.entry, ask: held.ask, own: held.own };
		inner.havvelWritten = text === null ? textOf(name) : text;
		d.write(`<script>(${havvelHold})(self, havvelGiven);</script>`);
		inner.havvelHeld.begin(inner.havvelWritten, url);
	}
	const raw = Object.getOwnPropertyDescriptor(Node.prototype, "textContent");
	const wake = () => {
		document.addEventListener("load", emptied, true);
		// A frame that asks is loaded twice: with all that is held, and with the page that it asked for.
		if (sealed) document.addEventListener("load", (e) => {
			const f = e.target;
			if (f.localName !== "iframe" || attribute.call(f, kept) === null) return;
			f.havvelLoads = (f.havvelLoads || 0) + 1;
			if (f.havvelLoads % 2) e.stopImmediatePropagation();
		}, true);
		// A link within this page stays in it, though addresses begin elsewhere.
		if (apart) addEventListener("click", (e) => {
			const a = e.target.closest && e.target.closest("a[href^='#'], area[href^='#']");
			if (!a || e.defaultPrevented || e.button || e.ctrlKey || e.metaKey || e.shiftKey) return;
			e.preventDefault();
			location.hash = attribute.call(a, "href");
		});
		// A form, and a page that leads elsewhere by itself, lead to the held one, too.
		addEventListener("submit", (e) => {
			const form = e.target, by = e.submitter, at = by && by.hasAttribute("formaction") ? by.formAction : form.action, url = new URL(at, base());
			if (e.defaultPrevented || !isPage(nameOf(url.href))) return;
			e.preventDefault();
			if (form.method !== "post") url.search = new URLSearchParams(new FormData(form, e.submitter)); // no host of files reads what is posted
			location.assign(led(url.href));
		});
		if (self.navigation) navigation.addEventListener("navigate", (e) => {
			const url = e.destination.url, path = (text) => text.replace(/[?#].*$/s, "");
			if (!e.cancelable || e.destination.sameDocument || typeof e.downloadRequest === "string" || !/^(push|replace)$/.test(e.navigationType)) return;
			if (path(url) === path(held.own) || !isPage(nameOf(url))) return;
			e.preventDefault();
			setTimeout(() => location[e.navigationType === "push" ? "assign" : "replace"](led(url)));
		});
		new MutationObserver((list) => {
			for (const m of list) {
				for (const n of m.addedNodes) {
					const e = n.nodeType === 1 ? n : null;
					for (const f of e ? [e, ...e.querySelectorAll("iframe")] : []) if (f.localName === "iframe") fill(f);
					const s = e && e.localName === "style" ? e : n.nodeType === 3 && n.parentNode && n.parentNode.localName === "style" ? n.parentNode : null;
					if (s) {
						const text = raw.get.call(s), other = styled(text);
						if (other !== text) raw.set.call(s, other);
					}
				}
				if (m.type === "attributes" && m.target.localName === "iframe") fill(m.target);
			}
		}).observe(document, { subtree: true, childList: true, attributes: true, attributeFilter: [framed, texted] });
	};

	// mapped is the script of the import map: held modules under their names and addresses, and what the page's own map says.
	function mapped(text, at) {
		const imports = {}, scopes = {}, bare = {};
		for (const name in files) {
			if (!/javascript|json|octet-stream/.test(files[name][0])) continue;
			const url = place(name), path = name.split("/").map(encodeURIComponent).join("/");
			for (const root of ["held:/", real, ...held.roots]) imports[root + path] = url;
		}
		for (const more in held.queries || {}) {
			const name = held.queries[more];
			imports[more] = imports["held:/" + name.split("/").map(encodeURIComponent).join("/")];
			imports[real + more.slice(6)] = imports[more];
		}
		const take = (from, into, names) => {
			for (const key in from) {
				if (typeof from[key] !== "string") continue;
				const name = nameOf(from[key], at);
				if (!key.endsWith("/")) {
					const held = name && name !== absent;
					into[key] = held ? place(name) : new URL(from[key], at).href;
					if (names) names[key] = held ? address(name) : into[key];
					continue;
				}
				const folder = new URL(from[key], at).href;
				for (const f in files) {
					if (!address(f).startsWith(folder)) continue;
					into[key + address(f).slice(folder.length)] = place(f);
					if (names) names[key + address(f).slice(folder.length)] = address(f);
				}
				if (!folder.startsWith(real)) into[key] = folder;
			}
		};
		if (text) {
			const own = JSON.parse(text);
			take(own.imports || {}, imports, bare);
			for (const scope in own.scopes || {}) {
				const folder = new URL(scope, at).href, inner = {};
				take(own.scopes[scope], inner);
				for (const f in files) if (address(f).startsWith(folder)) scopes[place(f)] = inner;
			}
		}
		held.bare = bare;
		if (!Object.keys(imports).length && !Object.keys(scopes).length) return ""; // some browsers take one map only
		return `<script type="importmap">${JSON.stringify({ imports, scopes }).replace(/</g, "\\u003c")}</script>`;
	}

	// begin writes the page as a browser would read it.
	self.havvelHeld.begin = (html, at) => {
		if (!held.frame) document.open();
		wake();
		const type = /^\s*<!doctype[^>]*>/i.exec(html), head = type ? type[0] : "";
		const stale = apart || held.frame && document.baseURI.replace(/#.*$/s, "") !== at.replace(/#.*$/s, ""); // some browsers forget where a frame was said to be
		const seen = {}, body = marked(html.slice(head.length), at, seen);
		known_.write.call(document, head + (stale ? `<base href="${(seen.base || at).replace(/"/g, "%22")}">` : "") + mapped(seen.map, at) + body);
		known_.close.call(document);
	};
}
