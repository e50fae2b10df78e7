// The screens: where everything stands, and what is written on it.

const gold = [1, 0.86, 0.62], pale = [0.72, 0.76, 0.88], bright = [1, 0.95, 0.82];

// drawScreen draws the game as it is now, and tells it where its buttons and lanterns are.
function drawScreen({ game, nights, scene, text, sound, width: W, height: H, time, look, grain, pace }) {
	const u = Math.min(W / 60, H / 62), v = game.view;
	const wideScreen = W > H;
	const buttons = [];
	const lamps = [];

	function button(label, x, y, w, h, act, { size = h * 0.32, quiet = false } = {}) {
		const over = v.hover === buttons.length;
		text.panel(x, y, w, h, {
			fill: quiet ? [0.03, 0.04, 0.1, over ? 0.75 : 0.45] : [0.16, 0.085, 0.03, over ? 0.95 : 0.78],
			rim: [1, 0.78, 0.46, over ? 0.95 : quiet ? 0.28 : 0.65], radius: h * 0.28, line: Math.max(1.2, u * 0.14),
		});
		text.put(label, x + w / 2, y + h / 2, size, { ink: over ? bright : gold, glow: over ? 0.9 : 0.4, loose: 0.7 });
		buttons.push({ x, y, w, h, act });
	}

	function lantern(x, y, half, l, focus) {
		const breath = 0.02 * Math.sin(time * 0.9 + l.phase);
		scene.lanterns.add(x, y, half, half, l.lit, l.swing * 0.5 + breath, l.phase, focus, 0, 1, 0, 0);
		if (l.lit > 0.02) {
			const flicker = 0.9 + 0.1 * Math.sin(time * 7 + l.phase * 5);
			scene.lights.add(x, y + half * 0.05, half * 2.6, half * 2.6, 1, 0.50, 0.17, 0.42 * l.lit * flicker);
		}
	}

	// rope draws the rope of a place where no lantern hangs.
	function rope(x, y, half) {
		scene.lanterns.add(x, y, half, half, -1, 0, 0, 0, 0, 1, 0, 0);
	}

	// Light from lanterns falls on the lane by columns: eight are enough to tell where it comes from.
	function light(x, y, strength) {
		const near = lamps.find((o) => Math.abs(o.x - x) < u * 4) || (lamps.length < 8 ? lamps[lamps.push({ x, y, light: 0 }) - 1] : lamps[7]);
		near.light += strength * Math.min(1, 0.25 + (0.6 * W) / H);
		near.y = Math.max(near.y, y);
	}

	function moths(list, half) {
		const lit = list.filter((l) => l.lit > 0.5);
		for (let i = 0; i < Math.min(14, lit.length * 2); i++) {
			const l = lit[(i * 7) % lit.length], t = time * (0.7 + (i % 5) * 0.13) + i * 40;
			const x = l.sx + half * (0.95 * Math.sin(t * 1.7) + 0.25 * Math.sin(t * 7.3)), y = l.sy + half * (0.7 * Math.cos(t * 1.3) + 0.2 * Math.sin(t * 9.1));
			const wing = u * (0.5 + 0.25 * Math.abs(Math.sin(time * 24 + i)));
			scene.lights.add(x, y, wing, wing, 1, 0.86, 0.6, 0.95);
		}
	}

	function board() {
		const rows = nights[v.night].rows, w = rows[0].length, h = rows.length;
		const top = 14.5 * u, bottom = H - 10 * u;
		const cell = Math.min((W - 5 * u) / w, (bottom - top) / h, 17 * u);
		const x0 = (W - w * cell) / 2, y0 = top + (bottom - top - h * cell) / 2;
		game.setArea({ x: x0, y: y0, cell });
		const there = new Set(v.lanterns.map((l) => l.p)), beyond = Math.ceil(x0 / cell);
		for (let y = 0; y < h; y++)
			for (let x = -beyond; x < w + beyond; x++)
				if (x < 0 || x >= w || !there.has(y * w + x)) rope(x0 + (x + 0.5) * cell, y0 + (y + 0.5) * cell, cell / 2);
		v.lanterns.forEach((l, i) => {
			l.sx = x0 + (l.x + 0.5) * cell;
			l.sy = y0 + (l.y + 0.5) * cell;
			const focus = v.focus === i && v.screen === "play" ? 1 : v.hinted === l.p ? 0.6 + 0.4 * Math.sin(time * 5) : 0;
			lantern(l.sx, l.sy, cell / 2, l, focus);
			light(l.sx, l.sy, l.lit * (0.9 / h) * (0.94 + 0.06 * Math.sin(time * 8 + l.phase)));
		});
		for (const s of v.sparks) {
			const r = u * 0.7 * s.life;
			scene.lights.add(s.l.sx + s.x * cell, s.l.sy + s.y * cell, r, r, 1, 0.7, 0.3, s.life * 1.6);
		}
		moths(v.lanterns, cell / 2);
	}

	function title() {
		const many = wideScreen ? 7 : 5, half = Math.min(W / many / 2, 8 * u);
		const y = H * (wideScreen ? 0.50 : 0.45);
		const list = [];
		for (let i = 0; i < many; i++) {
			const wave = Math.sin(time * 0.55 - i * 0.75);
			const l = { lit: Math.min(1, Math.max(0, 0.5 + 2.2 * wave)), swing: 0.07 * Math.sin(time * 1.1 + i), phase: i * 2.1, sx: W / 2 + (i - (many - 1) / 2) * half * 2, sy: y };
			lantern(l.sx, l.sy, half, l, 0);
			light(l.sx, l.sy, l.lit * 0.8);
			list.push(l);
		}
		moths(list, half);
		const big = Math.min(6.6 * u, W / 15.5);
		const warm = 0.75 + 0.25 * Math.sin(time * 2.3) * Math.sin(time * 3.1);
		if (wideScreen) text.put("Tinderwick Lane", W / 2, H * 0.225, big, { ink: bright, glow: 0.75 * warm, weight: 0.30, loose: 1.1 });
		else {
			text.put("Tinderwick", W / 2, H * 0.17, big * 1.18, { ink: bright, glow: 0.75 * warm, weight: 0.30, loose: 0.8 });
			text.put("Lane", W / 2, H * 0.17 + big * 1.9, big * 1.18, { ink: bright, glow: 0.75 * warm, weight: 0.30, loose: 2.4 });
		}
		const begun = game.solvedCount() > 0;
		const w = 28 * u, h = 6.4 * u, by = H * (wideScreen ? 0.68 : 0.66);
		button(begun ? "Go on" : "Light the lane", (W - w) / 2, by, w, h, game.actions.play);
		const sy = by + h + 1.5 * u;
		button("# Nights", W / 2 - w / 2, sy, w * 0.62, h * 0.82, game.actions.nights, { quiet: true });
		button(sound.silent ? "~" : "*", W / 2 + w / 2 - w * 0.32, sy, w * 0.32, h * 0.82, game.actions.sound, { quiet: true });
		text.put("A night-time puzzle by Moor & Thimble", W / 2, H - 2.6 * u, 1.35 * u, { ink: [0.86, 0.87, 0.94], alpha: 0.95, glow: 0.1, loose: 0.9 });
	}

	function nightsPage() {
		text.put("Nights", W / 2, 6 * u, 4 * u, { ink: bright, glow: 0.5, weight: 0.34, loose: 1 });
		text.put(`Score ${game.score()} of ${nights.length * 100}`, W / 2, 11.4 * u, 1.7 * u, { ink: pale, glow: 0.15, loose: 0.9 });
		const across = wideScreen ? 8 : 4, down = Math.ceil(nights.length / across);
		const cell = Math.min((W - 6 * u) / across, (H - 26 * u) / down, 11 * u);
		const x0 = (W - across * cell) / 2, y0 = 14.5 * u + (H - 26 * u - down * cell) / 2;
		nights.forEach((n, i) => {
			const x = x0 + (i % across) * cell, y = y0 + Math.floor(i / across) * cell, pad = cell * 0.08, best = game.points(i);
			const over = v.hover === buttons.length && game.open(i);
			text.panel(x + pad, y + pad, cell - 2 * pad, cell - 2 * pad, {
				fill: best ? [0.24, 0.12, 0.03, 0.85] : [0.03, 0.04, 0.1, 0.6], rim: [1, 0.78, 0.46, over ? 1 : best ? 0.7 : 0.2], radius: cell * 0.18, line: Math.max(1.2, u * 0.14),
			});
			text.put(String(i + 1), x + cell / 2, y + cell * (best ? 0.42 : 0.5), cell * 0.27, { ink: best ? bright : game.open(i) ? gold : pale, alpha: game.open(i) ? 1 : 0.3, glow: best ? 0.7 : 0.1 });
			if (best) {
				text.put(String(Math.min(100, best)), x + cell / 2, y + cell * 0.72, cell * 0.12, { ink: gold, glow: 0.2 });
				scene.lights.add(x + cell / 2, y + cell / 2, cell * 0.8, cell * 0.8, 1, 0.5, 0.17, 0.16 * (best / 100));
			}
			buttons.push({ x: x + pad, y: y + pad, w: cell - 2 * pad, h: cell - 2 * pad, act: () => game.open(i) && game.load(i) });
		});
		button("< Back", (W - 16 * u) / 2, H - 8.5 * u, 16 * u, 5.6 * u, game.actions.title, { quiet: true });
		for (let i = 0; i < 4; i++) light(W * (0.14 + 0.24 * i), H * 0.6, 0.25 + 0.1 * Math.sin(time * 3 + i * 2));
	}

	function heading() {
		text.put(nights[v.night].name, W / 2, 4.6 * u, 2.7 * u, { ink: bright, glow: 0.5, weight: 0.36, loose: 0.8 });
		text.put(`Night ${v.night + 1} of ${nights.length}`, W / 2, 8.5 * u, 1.45 * u, { ink: pale, alpha: 0.85, glow: 0.1, loose: 0.9 });
		const best = game.best(v.night);
		text.put(`Moves ${v.moves}   Fewest ${v.needed}${best ? "   Best " + best : ""}`, W / 2, 11.6 * u, 1.6 * u, { ink: gold, glow: 0.2, loose: 0.8 });
	}

	function tools() {
		const list = [["#", game.actions.nights], ["_", game.actions.undo], ["@", game.actions.again], ["^", game.actions.hint], [sound.silent ? "~" : "*", game.actions.sound]];
		const w = 8.6 * u, gap = 1.6 * u, x0 = (W - list.length * w - (list.length - 1) * gap) / 2;
		list.forEach(([icon, act], i) => button(icon, x0 + i * (w + gap), H - 8.2 * u, w, 6 * u, act, { quiet: true, size: 2.6 * u }));
		if (v.teach && v.moves === 0) lines(v.teach, H - 11.4 * u, 1.65 * u, { ink: pale, alpha: Math.min(1, v.since), glow: 0.2, loose: 0.8 });
	}

	// lines writes words in as many lines as fit between the sides, the last of them at y.
	function lines(words, y, h, how) {
		const list = [];
		for (const word of words.split(" ")) {
			const longer = list.length ? list[list.length - 1] + " " + word : word;
			if (list.length && text.measure(longer, h, how.loose) < 0.92 * W) list[list.length - 1] = longer;
			else list.push(word);
		}
		list.forEach((line, i) => text.put(line, W / 2, y - (list.length - 1 - i) * 1.6 * h, h, how));
	}

	function done() {
		const shown = Math.min(1, v.since * 3), perfect = v.moves <= v.needed;
		const w = 44 * u, h = 25 * u, x = (W - w) / 2, y = H - h - 3 * u + (1 - shown) * 4 * u;
		text.panel(x, y, w, h, { fill: [0.025, 0.03, 0.075, 0.86 * shown], rim: [1, 0.78, 0.46, 0.6 * shown], radius: 2.4 * u, line: Math.max(1.2, u * 0.16) });
		const say = (words, dy, size, more) => text.put(words, W / 2, y + dy * u, size * u, { alpha: shown, ...more });
		say(perfect ? "All lit, none wasted" : "All lit", 4.6, 2.3, { ink: bright, glow: 0.9, weight: 0.32, loose: 0.7 });
		say(`${v.moves} ${v.moves === 1 ? "move" : "moves"}   Fewest ${v.needed}   Best ${game.best(v.night)}`, 9.2, 1.6, { ink: gold, loose: 0.8 });
		say(`Score ${game.score()}`, 12.6, 1.6, { ink: pale, loose: 0.8 });
		button("@", x + 3 * u, y + 16.6 * u, 8 * u, 6 * u, game.actions.again, { quiet: true, size: 2.4 * u });
		button("Next night >", x + 13 * u, y + 16.6 * u, 28 * u, 6 * u, game.actions.next, { size: 2 * u });
	}

	function end() {
		text.put("The lane is bright", W / 2, H * 0.24, Math.min(5.4 * u, W / 15), { ink: bright, glow: 0.9, weight: 0.3, loose: 0.8 });
		text.put(`Score ${game.score()} of ${nights.length * 100}`, W / 2, H * 0.36, 2.2 * u, { ink: gold, loose: 0.6 });
		text.put("Thank you for playing", W / 2, H * 0.44, 1.7 * u, { ink: pale, loose: 0.9 });
		button("# Nights", (W - 24 * u) / 2, H * 0.62, 24 * u, 6.4 * u, game.actions.nights);
		for (let i = 0; i < 7; i++) light(W * (0.08 + 0.14 * i), H * 0.5, 0.7 + 0.1 * Math.sin(time * 4 + i));
	}

	const screens = {
		title, end, nights: nightsPage,
		play: () => { heading(); board(); tools(); },
		done: () => { heading(); board(); done(); },
	};
	screens[v.screen]();
	game.setButtons(buttons);
	const all = v.screen === "play" || v.screen === "done" ? v.lanterns : [];
	const warm = all.length ? all.reduce((s, l) => s + l.lit, 0) / all.length : v.screen === "end" ? 1 : 0.45;
	scene.backdrop(W, H, { time, warm, horizon: wideScreen ? 0.27 : 0.24, look, lamps, grain, pace });
	scene.front(W, H, time);
	text.draw(W, H);
}
