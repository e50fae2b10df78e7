// Brackwater's script, as the stand-in serves it: it tells the page around the game what happens in it.
(() => {
	"use strict";
	const tell = (what, more) => window.parent !== window && window.parent.postMessage({ brackwater: what, ...more }, "*");
	window.Brackwater = {
		ready: () => tell("ready"),
		score: (board, value) => tell("score", { board, value }),
	};
	tell("loaded");
})();
