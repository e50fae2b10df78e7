// Tells the page around the game what the game says and how it runs. It stands before all other scripts, and nothing in it may stop the game.
(function () {
	"use strict";
	if (window.top === window) return;
	var home = "CONTROL", errors = 0;
	function say(kind, data, bytes) {
		try { window.top.postMessage({ havvel: 1, kind: kind, data: data, bytes: bytes }, home, bytes ? [bytes] : []); } catch (x) { /* what can't be told is not told */ }
	}
	function plain(d) {
		try { return JSON.parse(JSON.stringify(d)); } catch (x) { return null; }
	}
	window.addEventListener("game-event", function (e) { var d = plain(e.detail || {}); if (d && d.data !== undefined) delete d.data; say("event", d); }); // what is saved stays with the game
	function stackOf(x) { try { return x && x.stack ? String(x.stack).slice(0, 900) : undefined; } catch (y) { return undefined; } }
	window.addEventListener("error", function (e) { if (e.message && ++errors <= 50) say("error", { message: String(e.message).slice(0, 500), file: String(e.filename || "").slice(-200), line: e.lineno, column: e.colno, stack: stackOf(e.error) }); });
	window.addEventListener("unhandledrejection", function (e) { if (++errors <= 50) say("error", { message: String(e.reason && e.reason.message || e.reason).slice(0, 500), stack: stackOf(e.reason) }); });

	// How often and where on the picture somebody presses, never which key.
	function press(e) {
		if (!e.isTrusted || e.repeat) return;
		var cell = "";
		if (e.clientX !== undefined && innerWidth && innerHeight) {
			cell = Math.min(8, Math.max(0, Math.floor(9 * e.clientY / innerHeight))) * 16 + Math.min(15, Math.max(0, Math.floor(16 * e.clientX / innerWidth))) + ":1";
		}
		say("presses", { count: 1, cells: cell });
	}
	["keydown", "pointerdown"].forEach(function (kind) { window.addEventListener(kind, press, { capture: true, passive: true }); });
	var frames = 0, since = 0, shown = false;
	// Games without a picture have something to press, or words.
	function something() {
		if (document.readyState !== "complete") return false;
		return document.querySelector("canvas, img, video, svg, button, input, a[href]") || performance.now() > 3000 && document.body && document.body.innerText.trim();
	}
	function count(now) {
		if (!shown && something()) shown = true, say("shown", null); // what was pressed before begins no play
		frames++;
		if (!since) since = now, frames = 0;
		else if (now - since >= 5000) {
			if (shown && !document.hidden && now - since < 8000) say("frames", { fps: Math.round(frames * 10000 / (now - since)) / 10 });
			since = now, frames = 0;
		}
		requestAnimationFrame(count);
	}
	requestAnimationFrame(count);

	// A clip of the largest canvas, in pieces, when the page asks for one.
	var recorder = null, pieces = 0;
	function largest() {
		var best = null;
		document.querySelectorAll("canvas").forEach(function (c) { if (c.width * c.height > 0 && (!best || c.width * c.height > best.width * best.height)) best = c; });
		return best;
	}
	function record(tries) {
		var canvas = largest();
		if (!canvas || !shown) { if (tries > 0) setTimeout(record, 500, tries - 1); return; }
		try {
			var type = ["video/webm;codecs=vp8", "video/webm"].filter(function (t) { return MediaRecorder.isTypeSupported(t); })[0];
			recorder = new MediaRecorder(canvas.captureStream(15), { mimeType: type, videoBitsPerSecond: 300000 });
			recorder.onstart = function () { say("clip", null); };
			recorder.ondataavailable = function (e) { if (e.data.size) { var n = ++pieces; e.data.arrayBuffer().then(function (b) { say("piece", n, b); }); } };
			recorder.start(3000);
			setTimeout(stop, 600000);
		} catch (x) { recorder = null; }
	}
	function stop() { try { if (recorder && recorder.state !== "inactive") recorder.stop(); } catch (x) { /* it has stopped */ } }
	window.addEventListener("message", function (e) {
		if (e.origin !== home || e.source !== window.top || !e.data || e.data.havvel !== 1) return;
		if (e.data.record === true && !recorder) record(60);
		if (e.data.record === false) stop();
		e.stopImmediatePropagation();
	});
	say("ready", null);
})();
