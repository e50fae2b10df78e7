(function () {
	"use strict";
	var to = new URL("OWNheard", location.href).href, send = window.fetch.bind(window);
	var n = 0, queue = [], busy = false;
	function go() {
		if (busy || !queue.length) return;
		busy = true;
		var over = function () { busy = false; go(); };
		try { send(to, { method: "POST", body: JSON.stringify(queue.splice(0, 100)), keepalive: true }).then(over, over); }
		catch (x) { over(); }
	}
	function say(e) {
		e.at = performance.now();
		e.n = ++n;
		try { JSON.stringify(e); } catch (x) { return; }
		queue.push(e);
		go();
	}
	function listen() {
		window.addEventListener("pagehide", function () {
			if (queue.length && navigator.sendBeacon) navigator.sendBeacon(to, JSON.stringify(queue.splice(0)));
		});
		window.addEventListener("HEARD", function (e) { say({ kind: "call", name: e.detail.call, arguments: e.detail.arguments }); });
		window.addEventListener("EVENT", function (e) { say({ kind: "event", name: String((e.detail || {}).event), detail: e.detail }); });
		window.addEventListener("error", function (e) {
			if (e.message) say({ kind: "error", message: e.message, file: e.filename, line: e.lineno, column: e.colno });
		}, true);
		window.addEventListener("unhandledrejection", function (e) {
			say({ kind: "error", message: String(e.reason && e.reason.message || e.reason) });
		});
	}
	listen();
	/* A page that is written anew loses all that listen to it (HTML standard, section 8.4.1). */
	var open = Document.prototype.open;
	Document.prototype.open = function () { var d = open.apply(this, arguments); if (this === document) listen(); return d; };
	/* A portal's script that the game loads by itself is the stand-in, too. */
	var hooks = HOOKS;
	function standIn(v) {
		var u = String(v).replace(/[?#].*$/, "");
		return Object.prototype.hasOwnProperty.call(hooks, u) ? hooks[u] : v;
	}
	var src = Object.getOwnPropertyDescriptor(HTMLScriptElement.prototype, "src"), set = Element.prototype.setAttribute;
	Object.defineProperty(HTMLScriptElement.prototype, "src", {
		get: src.get, set: function (v) { src.set.call(this, standIn(v)); }, configurable: true, enumerable: true,
	});
	Element.prototype.setAttribute = function (k, v) { return set.call(this, k, this instanceof HTMLScriptElement && /^src$/i.test(k) ? standIn(v) : v); };
	var error = console.error;
	console.error = function () {
		say({ kind: "error", message: Array.prototype.map.call(arguments, String).join(" ") });
		error.apply(console, arguments);
	};
})();
