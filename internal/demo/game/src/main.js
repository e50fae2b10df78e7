// The start: unpack the data, listen to the player, draw.

// unpack reads the data file: "LANE", the length of its directory, the directory, the parts.
function unpack(pack) {
	const view = new DataView(pack.buffer, pack.byteOffset, pack.byteLength);
	if (String.fromCharCode(...pack.subarray(0, 4)) !== "LANE") throw new Error("lane.pack is not what it should be; was it compressed, and served without saying so?");
	const length = view.getUint32(4, true);
	const directory = JSON.parse(new TextDecoder().decode(pack.subarray(8, 8 + length)));
	const find = (name) => directory.find((p) => p.name === name);
	const bytes = (name) => pack.subarray(8 + length + find(name).offset, 8 + length + find(name).offset + find(name).length);
	return {
		bytes,
		json: (name) => JSON.parse(new TextDecoder().decode(bytes(name))),
		picture: (name) => createImageBitmap(new Blob([bytes(name)], { type: find(name).type }), { premultiplyAlpha: "none", colorSpaceConversion: "none" }),
	};
}

// gather makes the same of files that were loaded one by one.
function gather(files) {
	const find = (name) => files[name] || files[name + ".json"] || files[name + ".wav"];
	return {
		bytes: find,
		json: (name) => JSON.parse(new TextDecoder().decode(find(name))),
		picture: (name) => createImageBitmap(new Blob([find(name)], { type: "image/png" }), { premultiplyAlpha: "none", colorSpaceConversion: "none" }),
	};
}

async function start(canvas, rules, parts, report) {
	const pictures = {};
	const names = ["letters", "houses", "cobbles", "mist"];
	for (const [i, name] of names.entries()) {
		pictures[name] = await parts.picture(name + ".png");
		report((i + 1) / names.length);
	}
	const gl = canvas.getContext("webgl2", { alpha: false, antialias: false, powerPreference: "low-power" });
	if (!gl) throw new Error("this browser has no WebGL 2");
	const nights = parts.json("nights"), table = parts.json("letters");
	const kept = keeper("tinderwick-lane");
	const sound = orchestra(parts);
	sound.silent = kept.get("silent", false);
	const game = newGame({ rules, nights, sound, kept });
	game.best = kept.best;

	let text, scene;
	const build = () => {
		text = writer(gl, pictures.letters, table);
		scene = scenery(gl, pictures);
	};
	build();
	canvas.addEventListener("webglcontextlost", (e) => e.preventDefault());
	canvas.addEventListener("webglcontextrestored", build);

	// Where drawing is slow, the game draws fewer pixels, and so seldom that the device has time for other things. It begins with few pixels.
	const levels = [{ grain: 0.5, pace: 10, quality: 0.55, rest: 60 }, { grain: 0.4, pace: 8, quality: 0.75, rest: 60 },
		{ grain: 0.25, pace: 3, quality: 1, rest: 0 }, { grain: 0.4, pace: 1, quality: 1, rest: 0 },
		{ grain: 0.7, pace: 1, quality: 1, rest: 0 }, { grain: 1, pace: 1, quality: 1, rest: 0 }];
	let level = 2, scale = 1, most = levels.length - 1, slow = 0, quick = 0;
	function fit() {
		const screen = window.devicePixelRatio || 1;
		scale = Math.max(Math.min(screen, level > 3 ? 2 : 1) * levels[level].quality, Math.min(screen, 2) * 0.42);
		const w = Math.max(1, Math.round(canvas.clientWidth * scale)), h = Math.max(1, Math.round(canvas.clientHeight * scale));
		if (canvas.width !== w || canvas.height !== h) canvas.width = w, canvas.height = h;
	}
	new ResizeObserver(fit).observe(canvas);
	fit();

	const look = [0, 0], wanted = [0, 0];
	const at = (e) => [e.offsetX * scale, e.offsetY * scale];
	canvas.addEventListener("pointermove", (e) => {
		wanted[0] = e.offsetX / canvas.clientWidth - 0.5, wanted[1] = e.offsetY / canvas.clientHeight - 0.5;
		canvas.style.cursor = game.pointer(...at(e), false) ? "pointer" : "default";
	});
	canvas.addEventListener("pointerdown", (e) => {
		e.preventDefault();
		canvas.focus();
		sound.begin();
		game.pointer(...at(e), true);
	});
	canvas.addEventListener("contextmenu", (e) => e.preventDefault());
	window.addEventListener("keydown", (e) => {
		if (e.ctrlKey || e.metaKey || e.altKey) return;
		sound.begin();
		if (game.key(e.key.length === 1 ? e.key.toLowerCase() : e.key)) e.preventDefault();
	});

	let before = performance.now(), drawn = 0;
	const pixel = new Uint8Array(4);
	// adapt takes how many milliseconds a frame took to draw.
	function adapt(cost) {
		const much = levels[level].rest ? 70 : 22;
		slow = cost > much ? slow + Math.min(3, cost / much) : Math.max(0, slow - 1);
		quick = cost > 8 ? 0 : quick + 1;
		if (slow >= 4 && level > 0) most = Math.max(2, --level), slow = 0, fit();
		if (quick >= 4 && level < most) level++, quick = 0, fit();
	}
	function frame(now) {
		requestAnimationFrame(frame);
		if (now - before < levels[level].rest) return;
		const real = (now - before) / 1000, dt = Math.min(0.1, real);
		before = now;
		look[0] += (wanted[0] - look[0]) * Math.min(1, dt * 3);
		look[1] += (wanted[1] - look[1]) * Math.min(1, dt * 3);
		game.tick(dt);
		if (!gl.isContextLost()) {
			gl.viewport(0, 0, canvas.width, canvas.height);
			const begun = performance.now();
			drawScreen({ game, nights, scene, text, sound, width: canvas.width, height: canvas.height, time: now / 1000, look, ...levels[level] });
			if (++drawn > 3 && (drawn < 40 || drawn % 16 === 0) && !document.hidden) {
				gl.readPixels(0, 0, 1, 1, gl.RGBA, gl.UNSIGNED_BYTE, pixel); // waits until all is drawn
				adapt(performance.now() - begun);
			}
		}
	}
	frame(before);
	canvas.focus();
}
