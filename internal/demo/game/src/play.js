// The game: screens, lanterns, moves, and what a player does. Sizes are in pixels of the canvas; u is a
// unit that fits a phone as well as a desktop.

function newGame({ rules, nights, sound, kept }) {
	const teach = ["Press a lantern: it turns, and so do its neighbours", "Light every lantern on the lane", "Pressing one twice undoes it"];
	let screen = "title", night = 0, moves = 0, needed = 0, focus = -1, lanterns = [], history = [], sparks = [], since = 0, hinted = -1, wrong = 0;
	let buttons = [], hover = -1, area = { x: 0, y: 0, cell: 1 };

	// send tells listeners around the game what happens in it.
	function send(event, more) {
		window.dispatchEvent(new CustomEvent("game-event", { cancelable: true, detail: { event, ...more } }));
	}

	function load(i) {
		if (screen !== "play" && screen !== "done") send("play-begun");
		night = i;
		const { rows, seed, turns } = nights[i];
		const w = rows[0].length, h = rows.length;
		let low = 0, high = 0;
		rows.forEach((row, y) => [...row].forEach((c, x) => {
			const p = y * w + x;
			if (c === "o") p < 32 ? (low |= 1 << p) : (high |= 1 << (p - 32));
		}));
		rules.lay(w, h, high, low);
		needed = rules.make(seed, turns);
		moves = 0, history = [], hinted = -1;
		lanterns = [];
		for (let p = 0; p < w * h; p++)
			if (rows[Math.floor(p / w)][p % w] === "o")
				lanterns.push({ p, x: p % w, y: Math.floor(p / w), lit: 0, swing: 0.3 * Math.sin(p * 2.3), speed: 0, phase: p * 1.7 });
		focus = focus < 0 ? -1 : 0;
		go("play");
		kept.set("night", i);
		send("level-begun", { level: i + 1 });
	}

	function go(to) {
		if ((screen === "play" || screen === "done") && to !== "play" && to !== "done") send("play-stopped");
		screen = to, since = 0, hover = -1;
	}

	function press(l) {
		if (screen !== "play" || !rules.turn(l.p)) return;
		history.push(l.p);
		moves++;
		hinted = -1;
		touched(l);
		if (rules.solved()) finish();
	}

	// touched lets a lantern and its neighbours swing, ring and throw sparks.
	function touched(l) {
		const on = rules.is_lit(l.p);
		sound.play(on ? "light" : "dark", Math.pow(2, [0, 2, 4, 7, 9, 12, 14, 16][(l.x + l.y) % 8] / 12) * 0.8, 0.5);
		for (const o of lanterns) {
			const d = Math.abs(o.x - l.x) + Math.abs(o.y - l.y);
			if (d <= 1) o.speed += (d ? Math.sign(o.x - l.x || 0.5) * 1.3 : 2.2 * (Math.random() < 0.5 ? -1 : 1));
			if (d <= 1 && rules.is_lit(o.p)) for (let i = 0; i < 7; i++) spark(o);
		}
	}

	function spark(l) {
		sparks.push({ l, x: (Math.random() - 0.5) * 0.5, y: -0.1 * Math.random(), vx: (Math.random() - 0.5) * 0.9, vy: -0.5 - Math.random(), life: 1, fade: 0.7 + Math.random() });
	}

	function finish() {
		const best = kept.best(night);
		if (!best || moves < best) kept.setBest(night, moves);
		send("level-ended", { level: night + 1, won: true });
		send("statistic", { name: "lanterns", value: score() });
		send("statistic", { name: "nights", value: solvedCount() });
		setTimeout(() => screen === "play" && rules.solved() && (sound.play("done", 1, 0.6), lanterns.forEach((l) => { for (let i = 0; i < 10; i++) spark(l); }), go("done")), 650);
	}

	function undo() {
		if (screen !== "play" || !history.length || rules.solved()) return;
		const p = history.pop();
		rules.turn(p);
		moves++;
		hinted = -1;
		touched(lanterns.find((l) => l.p === p));
	}

	function hint() {
		if (screen === "play") hinted = rules.hint();
	}

	const points = (i) => (kept.best(i) ? Math.round((100 * neededFor(i)) / kept.best(i)) : 0);
	const neededOf = {};
	function neededFor(i) {
		return i === night && needed ? needed : neededOf[i] || nights[i].turns;
	}
	const score = () => nights.reduce((sum, _, i) => sum + Math.min(100, points(i)), 0);
	const solvedCount = () => nights.filter((_, i) => kept.best(i)).length;
	const open = (i) => i <= solvedCount() + 2;

	function next() {
		neededOf[night] = needed;
		night + 1 < nights.length ? load(night + 1) : go("end");
	}

	const actions = {
		play: () => load(Math.min(kept.get("night", 0), nights.length - 1)),
		nights: () => go("nights"), title: () => go("title"), again: () => load(night), next, undo, hint,
		sound: () => { sound.silent = !sound.silent; kept.set("silent", sound.silent); },
	};

	// --- what a player does ---

	function pointer(x, y, down) {
		const over = buttons.findIndex((b) => x >= b.x && x <= b.x + b.w && y >= b.y && y <= b.y + b.h);
		hover = over;
		if (!down) return over >= 0 || !!lanternAt(x, y);
		focus = -1;
		if (over >= 0) return buttons[over].act(), true;
		if (screen === "done" && since > 0.4) return next(), true;
		const l = lanternAt(x, y);
		if (l) press(l);
		return true;
	}

	function lanternAt(x, y) {
		if (screen !== "play") return null;
		const gx = Math.floor((x - area.x) / area.cell), gy = Math.floor((y - area.y) / area.cell);
		return lanterns.find((l) => l.x === gx && l.y === gy) || null;
	}

	function key(k) {
		const step = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1], a: [-1, 0], d: [1, 0], w: [0, -1], s: [0, 1] }[k];
		if (k === "m") return actions.sound(), true;
		if (screen === "play") {
			if (step) return move(step), true;
			if (k === "Enter" || k === " ") return focus < 0 ? (focus = 0) : press(lanterns[focus]), true;
			if (k === "z" || k === "Backspace") return undo(), true;
			if (k === "r") return actions.again(), true;
			if (k === "h") return hint(), true;
			if (k === "Escape") return actions.nights(), true;
			return false;
		}
		if (k === "Enter" || k === " ") {
			if (screen === "title" || screen === "nights") focus = 0, actions.play();
			else if (screen === "done") since > 0.3 && next();
			else actions.title();
			return true;
		}
		if (k === "Escape") return actions.title(), true;
		return !!step;
	}

	// move takes the focus to the nearest lantern in a direction.
	function move([dx, dy]) {
		if (focus < 0) return void (focus = 0);
		const from = lanterns[focus];
		let best = -1, near = Infinity;
		lanterns.forEach((l, i) => {
			const ax = l.x - from.x, ay = l.y - from.y, along = ax * dx + ay * dy, across = Math.abs(ax * dy) + Math.abs(ay * dx);
			if (along > 0 && along + 2.5 * across < near) near = along + 2.5 * across, best = i;
		});
		if (best >= 0) focus = best;
		else sound.play("no", 1, 0.4);
	}

	function tick(dt) {
		since += dt;
		for (const l of lanterns) {
			const to = rules.is_lit(l.p) ? 1 : 0;
			l.lit += (to - l.lit) * Math.min(1, dt * 9);
			l.speed += (-14 * l.swing - 1.6 * l.speed) * dt;
			l.swing += l.speed * dt;
		}
		for (const s of sparks) {
			s.life -= dt * s.fade, s.vy += 0.9 * dt, s.x += s.vx * dt, s.y += s.vy * dt;
		}
		sparks = sparks.filter((s) => s.life > 0);
	}

	return {
		pointer, key, tick, points, score, solvedCount, open, actions, load,
		get view() { return { screen, night, moves, needed, focus, lanterns, sparks, since, hinted, hover, teach: teach[night] || "" }; },
		setButtons(list) { buttons = list; },
		setArea(a) { area = a; },
		isLit: (l) => rules.is_lit(l.p) === 1,
	};
}

// keeper remembers bests and settings, in the browser where it may.
function keeper(name) {
	let all = {};
	try {
		all = JSON.parse(localStorage.getItem(name)) || {};
	} catch { /* a frame without storage: remember until the page is left */ }
	const save = () => {
		try {
			localStorage.setItem(name, JSON.stringify(all));
		} catch { /* likewise */ }
	};
	return {
		get: (key, otherwise) => (key in all ? all[key] : otherwise),
		set: (key, v) => { all[key] = v; save(); },
		best: (i) => all.bests && all.bests[i],
		setBest: (i, v) => { all.bests = { ...all.bests, [i]: v }; save(); },
	};
}
