// The loader brings the rules and the data, shows how far it is, and starts the game.
(() => {
	"use strict";
	const done = document.getElementById("done");
	const words = document.getElementById("words");
	const parts = [{{parts}}].map((name) => ({ name, share: 0 }));
	let unpacked = 0;

	// send tells listeners around the game what happens in it.
	function send(event) {
		window.dispatchEvent(new CustomEvent("game-event", { cancelable: true, detail: { event } }));
	}

	function show() {
		const loaded = (0.9 * parts.reduce((sum, p) => sum + p.share, 0)) / parts.length + 0.1 * unpacked;
		done.style.width = Math.round(100 * loaded) + "%";
		document.getElementById("loading").setAttribute("aria-valuenow", Math.round(100 * loaded));
	}

	// bring returns the bytes of a part: from the page, when it holds them, or from beside it.
	async function bring(part) {
		const inside = document.getElementById(part.name);
		if (inside) {
			const bytes = Uint8Array.from(atob(inside.textContent), (c) => c.charCodeAt(0));
			inside.remove();
			part.share = 1;
			show();
			return bytes;
		}
		const answer = await fetch(part.name);
		if (!answer.ok) throw new Error(part.name + ": the host answered " + answer.status);
		const total = Number(answer.headers.get("Content-Encoding") ? 0 : answer.headers.get("Content-Length"));
		const pieces = [];
		let length = 0;
		for (const reader = answer.body.getReader(); ;) {
			const { done, value } = await reader.read();
			if (done) break;
			pieces.push(value);
			length += value.length;
			part.share = total ? Math.min(1, length / total) : 1 - 1 / (1 + length / 200000);
			show();
		}
		part.share = 1;
		show();
		const bytes = new Uint8Array(length);
		let at = 0;
		for (const piece of pieces) {
			bytes.set(piece, at);
			at += piece.length;
		}
		return bytes;
	}

	async function load() {
		send("loading-begun");
		const files = {};
		await Promise.all(parts.map(async (part) => (files[part.name] = await bring(part))));
		const module = files["rules.wasm"];
		const rules = module ? (await WebAssembly.instantiate(module, {})).instance.exports : TinderwickRules;
		const data = files["lane.pack"] ? TinderwickLane.unpack(files["lane.pack"]) : TinderwickLane.gather(files);
		await TinderwickLane.start(document.getElementById("lane"), rules, data, (share) => {
			unpacked = share;
			show();
		});
		send("loading-done");
		const loading = document.getElementById("loading");
		loading.classList.add("over");
		setTimeout(() => loading.remove(), 700);
	}

	load().catch((e) => {
		words.textContent = "The lane stays dark: " + e.message;
		console.error(e);
	});
})();
