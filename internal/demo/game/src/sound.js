// Sound: bells for lanterns and the night around them. A browser lets it begin with the first press.

function orchestra(parts) {
	let context = null, out = null, buffers = {}, silent = false;

	async function begin() {
		if (context) {
			if (context.state === "suspended" && !document.hidden) context.resume();
			return;
		}
		const Kind = window.AudioContext || window.webkitAudioContext;
		if (!Kind) return;
		context = new Kind();
		out = context.createGain();
		out.gain.value = silent ? 0 : 1;
		out.connect(context.destination);
		for (const name of ["light", "dark", "no", "done", "night"]) {
			const bytes = parts.bytes(name);
			buffers[name] = await context.decodeAudioData(bytes.buffer.slice(bytes.byteOffset, bytes.byteOffset + bytes.length));
		}
		const night = context.createBufferSource();
		night.buffer = buffers.night;
		night.loop = true;
		night.connect(out);
		night.start();
	}

	document.addEventListener("visibilitychange", () => {
		if (context) document.hidden ? context.suspend() : context.resume();
	});

	return {
		begin: () => begin().catch((e) => console.warn("no sound: " + e.message)),
		play(name, pitch = 1, level = 0.7) {
			if (!context || !buffers[name]) return;
			const source = context.createBufferSource();
			const gain = context.createGain();
			source.buffer = buffers[name];
			source.playbackRate.value = pitch;
			gain.gain.value = level;
			source.connect(gain).connect(out);
			source.start();
		},
		get silent() { return silent; },
		set silent(v) {
			silent = v;
			if (out) out.gain.setTargetAtTime(v ? 0 : 1, context.currentTime, 0.05);
		},
	};
}
