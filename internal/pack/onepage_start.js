// The page's own start: what the page holds is unpacked while it comes, and then the game's page is written in its place.
(function () {
	"use strict";
	let feed;
	const whole = new Response(new ReadableStream({ start(c) { feed = c; } }).pipeThrough(new DecompressionStream("deflate-raw"))).blob();
	self.havvelTake = function (coding) {
		const script = document.currentScript, chunk = script.previousElementSibling, text = chunk.textContent;
		chunk.remove();
		script.remove();
		feed.enqueue(coding === 7 ? seven(text) : sixtyFour(text));
	};
	function sixtyFour(text) {
		const bits = atob(text), bytes = new Uint8Array(bits.length);
		for (let i = 0; i < bits.length; i++) bytes[i] = bits.charCodeAt(i);
		return bytes;
	}
	function seven(text) {
		const bytes = new Uint8Array(Math.floor(text.length * 7 / 8));
		for (let i = 0, at = 0, held = 0, bits = 0; i < text.length; i++) {
			const c = text.charCodeAt(i);
			held = (held << 7) | (c < 128 ? c : [0, 13, 60][c - 128]);
			bits += 7;
			if (bits >= 8) {
				bits -= 8;
				bytes[at++] = held >> bits;
				held &= (1 << bits) - 1;
			}
		}
		return bytes;
	}
	self.havvelBegin = async function () {
		feed.close();
		const all = await whole, length = +(await all.slice(0, 10).text());
		const index = JSON.parse(await all.slice(10, 10 + length).text());
		const here = /^(https?|file):/.test(location.protocol) ? location.href.replace(/[?#].*$/s, "").replace(/[^/]*$/, "") : "https://game.invalid/";
		const asked = new URLSearchParams(location.search).get(index.ask), page = Object.hasOwn(index.files, asked) && /^text\/html/.test(index.files[asked][0]) ? asked : index.page;
		const origin = /^https?:/.test(here) ? new URL(here).origin + "/" : here;
		const files = {}, texts = {};
		for (const name in index.files) {
			const [type, start, bytes] = index.files[name];
			const part = () => all.slice(10 + length + start, 10 + length + start + bytes, type);
			files[name] = [type, bytes, () => URL.createObjectURL(part())];
			if (/^text\/(css|html)|svg\+xml/.test(type)) texts[name] = await part().text();
		}
		const at = page === index.page ? here : here + page.split("/").map(encodeURIComponent).join("/");
		const roots = [origin, origin + index.root.slice(1)].filter((r, i, l) => r !== here && l.indexOf(r) === i);
		havvelHold(self, { files, real: here, roots, texts, at, queries: index.queries, page, entry: index.page, ask: index.ask, own: location.href.replace(/#.*$/s, "") });
		havvelHeld.begin(texts[page], at);
	};
})();
