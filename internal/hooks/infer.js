(function (what) {
	// Finds out what happens in a game that doesn't say so, and sends the events that the game could send, in their order. Nothing here may
	// stop the game.
	var said = {}, canvas, open = 0, last = 0, drawn = 0, wants = function (e) { return what.events.indexOf(e) >= 0; };
	function send(event, more) {
		said[event] = 2;
		window.dispatchEvent(new CustomEvent("game-event", { cancelable: true, detail: Object.assign({ event: event, inferred: true }, more) }));
	}
	function on(e, f) { window.addEventListener(e, f, true); }
	on("game-event", function (e) {
		if (e.detail && !e.detail.inferred) said[e.detail.event] = 1; // the game says it itself
	});
	function over() { open--; last = Date.now(); drawn = 0; }
	function wrap(o, name, then) {
		var known = o && o[name];
		if (known) o[name] = function () { var r = known.apply(this, arguments); try { then.call(this, r); } catch (e) { } return r; };
	}
	function pending(r) { open++; r.then(over, over); }
	wrap(window, "fetch", pending);
	["compile", "instantiate", "compileStreaming", "instantiateStreaming"].forEach(function (n) { wrap(window.WebAssembly, n, pending); });
	wrap(XMLHttpRequest.prototype, "send", function () { open++; this.addEventListener("loadend", over, { once: true }); });
	wrap(HTMLCanvasElement.prototype, "getContext", function () { canvas = 1; });
	["WebGLRenderingContext", "WebGL2RenderingContext", "CanvasRenderingContext2D"].forEach(function (k) {
		var p = window[k] && window[k].prototype;
		for (var n in p) if (/^draw[AEIR]|^fill([RT]|$)|^putI/.test(n)) wrap(p, n, function () { drawn++; });
	});
	// loading is done when nothing has come for a while, and something is drawn with what came.
	var had, looks = setInterval(function () {
		var came = performance.getEntriesByType("resource").length;
		if (came !== had) { had = came; last = Date.now(); }
		if (document.readyState !== "complete" || open > 0 || Date.now() - last < 700 || (canvas && !drawn)) return;
		clearInterval(looks);
		if (!said["loading-done"] && wants("loading-done")) send("loading-done");
		said["loading-done"] = said["loading-done"] || 3;
	}, 100);
	function begin() {
		if (said["loading-done"] && wants("play-begun") && said["play-begun"] !== 1 && !said.playing) { said.playing = 1; send("play-begun"); }
	}
	function stop() {
		if (said.playing && wants("play-stopped") && said["play-stopped"] !== 1) { said.playing = 0; send("play-stopped"); }
	}
	on("pointerdown", begin);
	on("keydown", begin);
	on("pagehide", stop);
	on("visibilitychange", function () { if (document.hidden) stop(); });
	on("blur", function (e) { if (e.target === window) stop(); });
	// Values that the game keeps somewhere are sent when they change.
	what.values.forEach(function (v) {
		var known, begun;
		setInterval(function () {
			var now;
			try {
				now = v.storage ? localStorage.getItem(v.storage) : v.global.split(".").reduce(function (o, n) { return o[n]; }, window);
			} catch (e) { return; }
			now = now === null || now === "" ? NaN : +now;
			if (begun && isFinite(now) && now !== known) send("statistic", { name: v.name, value: now });
			if (isFinite(now)) known = now;
			begun = 1;
		}, 500);
	});
})
