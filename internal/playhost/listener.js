// Tells the page around the game what the game says and how it runs. It stands before all other scripts, and nothing in it may stop the game.
(function () {
	"use strict";
	if (window.parent === window) return;
	var errors = 0;
	function say(kind, data) {
		try { window.parent.postMessage({ havvel: 1, kind: kind, data: data }, "CONTROL"); } catch (x) { /* what can't be told is not told */ }
	}
	function plain(d) {
		try { return JSON.parse(JSON.stringify(d)); } catch (x) { return null; }
	}
	window.addEventListener("game-moment", function (e) { say("moment", plain(e.detail || {})); });
	window.addEventListener("error", function (e) { if (e.message && ++errors <= 50) say("error", { message: String(e.message).slice(0, 500), file: String(e.filename || "").slice(-200), line: e.lineno }); });
	window.addEventListener("unhandledrejection", function (e) { if (++errors <= 50) say("error", { message: String(e.reason && e.reason.message || e.reason).slice(0, 500) }); });
	var frames = 0, since = 0, shown = false;
	function count(now) {
		if (!shown && document.querySelector("canvas, img, video") && document.readyState === "complete") shown = true, say("shown", null);
		frames++;
		if (!since) since = now, frames = 0;
		else if (now - since >= 5000) {
			if (!document.hidden && now - since < 8000) say("frames", { fps: Math.round(frames * 10000 / (now - since)) / 10 });
			since = now, frames = 0;
		}
		requestAnimationFrame(count);
	}
	requestAnimationFrame(count);
})();
