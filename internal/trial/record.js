(function () {
	"use strict";
	// Tells what the player does: keys, presses, the wheel and a gamepad.
	const say = window.havvelInput;
	if (!say) return;
	delete window.havvelInput;
	const now = () => performance.timeOrigin + performance.now();
	const named = (key) => key === " " ? "Space" : key;
	// Places are shares of the game's picture, or else of the window.
	const share = (e) => {
		let r = { left: 0, top: 0, width: innerWidth, height: innerHeight };
		let most = 0;
		for (const c of document.querySelectorAll("canvas")) {
			const b = c.getBoundingClientRect();
			if (b.width * b.height > most) most = b.width * b.height, r = b;
		}
		return { x: (e.clientX - r.left) / r.width, y: (e.clientY - r.top) / r.height };
	};
	const held = {};
	addEventListener("keydown", (e) => { if (!e.repeat) held[e.code] = { what: "key", key: named(e.key), at: now() }; }, true);
	addEventListener("keyup", (e) => {
		const k = held[e.code];
		delete held[e.code];
		if (k) say({ ...k, to: now() });
	}, true);
	let down = null;
	addEventListener("pointerdown", (e) => { down = { what: "point", at: now(), ...share(e), px: e.clientX, py: e.clientY, right: e.button === 2, moved: 0 }; }, true);
	addEventListener("pointermove", (e) => { if (down) down.moved = Math.max(down.moved, Math.hypot(e.clientX - down.px, e.clientY - down.py)); }, true);
	const lift = (e) => {
		if (!down) return;
		const to = share(e);
		say({ ...down, to: now(), x2: to.x, y2: to.y });
		down = null;
	};
	addEventListener("pointerup", lift, true);
	addEventListener("pointercancel", lift, true);
	addEventListener("wheel", (e) => say({ what: "wheel", at: now(), to: now(), pixels: e.deltaY }), { capture: true, passive: true });
	const buttons = ["A", "B", "X", "Y", "L1", "R1", "L2", "R2", "select", "start", "L3", "R3", "up", "down", "left", "right"], pressed = {};
	const poll = () => {
		for (const pad of navigator.getGamepads ? navigator.getGamepads() : []) {
			if (pad) buttons.forEach((key, i) => {
				const is = pad.buttons[i] && pad.buttons[i].pressed;
				if (is && !pressed[key]) pressed[key] = now();
				if (!is && pressed[key]) say({ what: "pad", key, at: pressed[key], to: now() }), delete pressed[key];
			});
		}
		requestAnimationFrame(poll);
	};
	poll();
})();
