// The rules of Tinderwick Lane in script, for exports without WebAssembly. They say the same as rules.c, step for
// step, which tells what each function does; a test holds them to it.

const TinderwickRules = (() => {
	"use strict";
	let width = 0, height = 0, lanterns = 0n, lit = 0n, chance = 0n, reach = [];
	const bit = (place) => 1n << BigInt(place);
	const has = (set, place) => (set >> BigInt(place)) & 1n;

	function bits(set) {
		let n = 0;
		for (; set; set &= set - 1n) n++;
		return n;
	}

	function lay(w, h, high, low) {
		if (w < 1 || h < 1 || w * h > 48) return -1;
		width = w, height = h;
		lanterns = ((BigInt(high >>> 0) << 32n) | BigInt(low >>> 0)) & (bit(w * h) - 1n);
		reach = [];
		for (let y = 0; y < h; y++)
			for (let x = 0; x < w; x++) {
				let r = bit(y * w + x);
				if (x > 0) r |= bit(y * w + x - 1);
				if (x < w - 1) r |= bit(y * w + x + 1);
				if (y > 0) r |= bit((y - 1) * w + x);
				if (y < h - 1) r |= bit((y + 1) * w + x);
				reach.push(r & lanterns);
			}
		lit = lanterns;
		return bits(lanterns);
	}

	function turn(place) {
		if (place < 0 || place >= width * height || !has(lanterns, place)) return 0;
		lit ^= reach[place];
		return 1;
	}

	function shortest() {
		const left = [], right = [], pivots = [], free = [];
		for (let p = 0; p < width * height; p++)
			if (has(lanterns, p)) left.push(reach[p]), right.push(has(lit, p) ? 0 : 1);
		for (let p = 0; p < width * height; p++) {
			if (!has(lanterns, p)) continue;
			let r = pivots.length;
			while (r < left.length && !has(left[r], p)) r++;
			if (r === left.length) {
				free.push(p);
				continue;
			}
			const row = pivots.length, l = left[r], v = right[r];
			left[r] = left[row], right[r] = right[row];
			left[row] = l, right[row] = v;
			for (r = 0; r < left.length; r++)
				if (r !== row && has(left[r], p)) left[r] ^= l, right[r] ^= v;
			pivots.push(p);
		}
		for (let r = pivots.length; r < left.length; r++) if (right[r]) return null;
		let best = null;
		for (let choice = 0; choice < 1 << free.length; choice++) {
			let set = 0n;
			free.forEach((p, i) => { if ((choice >> i) & 1) set |= bit(p); });
			let whole = set;
			pivots.forEach((p, r) => { if ((bits(left[r] & set) & 1) !== right[r]) whole |= bit(p); });
			if (best === null || bits(whole) < bits(best)) best = whole;
		}
		return best;
	}

	function hint() {
		const s = shortest();
		if (!s) return -1;
		let place = 0;
		while (!has(s, place)) place++;
		return place;
	}

	function fewest() {
		const s = shortest();
		return s === null ? -1 : bits(s);
	}

	function next() {
		chance = BigInt.asUintN(64, chance * 6364136223846793005n + 1442695040888963407n);
		return Number((chance >> 33n) & 0xffffffffn);
	}

	function make(seed, turns) {
		let nearest = lanterns, distance = 1000, needed = 0;
		chance = BigInt(seed >>> 0);
		for (let attempt = 0; attempt < 300 && distance; attempt++) {
			lit = lanterns;
			let chosen = 0n;
			for (let guard = 0; bits(chosen) < turns && guard < 4000; guard++) {
				const p = next() % (width * height);
				if (has(lanterns & ~chosen, p)) chosen |= bit(p), turn(p);
			}
			const n = fewest(), off = Math.abs(n - turns);
			if (n > 0 && off < distance) distance = off, nearest = lit, needed = n;
		}
		lit = nearest;
		return needed;
	}

	return { lay, turn, fewest, hint, make, is_lit: (place) => Number(has(lit, place)), solved: () => (lanterns && lit === lanterns ? 1 : 0) };
})();
