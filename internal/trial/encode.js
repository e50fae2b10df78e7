// Encodes a film's pictures, each asked for when its turn comes, as fast as this machine can. times are in milliseconds.
window.havvelEncode = async (times, width, height, rate) => {
	const keyEvery = 2000;
	let config;
	for (const codec of ["vp09.00.51.08", "vp8"]) {
		const wanted = { codec, width, height, bitrate: rate, framerate: 30, latencyMode: "quality" };
		if (!config && self.VideoEncoder && (await VideoEncoder.isConfigSupported(wanted)).supported) config = wanted;
	}
	if (!config) throw new Error("it has no encoder for WebM films");
	const canvas = Object.assign(document.createElement("canvas"), { width, height });
	const g = canvas.getContext("2d", { alpha: false });
	g.imageSmoothingQuality = "high";
	const pictures = [];
	let failed;
	const encoder = new VideoEncoder({
		output: (chunk) => {
			const bytes = new Uint8Array(chunk.byteLength);
			chunk.copyTo(bytes);
			let text = "";
			for (let i = 0; i < bytes.length; i += 32768) text += String.fromCharCode(...bytes.subarray(i, i + 32768));
			pictures.push({ MS: Math.round(chunk.timestamp / 1000), Key: chunk.type === "key", Data: btoa(text) });
		},
		error: (e) => (failed = e),
	});
	encoder.configure(config);
	let key = -keyEvery;
	for (const [i, ms] of times.entries()) {
		const p = await createImageBitmap(await (await fetch("/" + i)).blob());
		const scale = Math.max(width / p.width, height / p.height);
		const w = p.width * scale, h = p.height * scale;
		g.drawImage(p, (width - w) / 2, (height - h) / 2, w, h);
		p.close();
		while (encoder.encodeQueueSize > 2 && !failed) await new Promise((done) => setTimeout(done, 5));
		if (failed) throw failed;
		const frame = new VideoFrame(canvas, { timestamp: ms * 1000 });
		const isKey = ms - key >= keyEvery;
		if (isKey) key = ms;
		encoder.encode(frame, { keyFrame: isKey });
		frame.close();
	}
	await encoder.flush();
	encoder.close();
	return { Codec: config.codec.startsWith("vp09") ? "V_VP9" : "V_VP8", Pictures: pictures };
};

// Draws what a film shows first, and gives it as PNG.
window.havvelFirst = async (address) => {
	const film = Object.assign(document.createElement("video"), { muted: true, preload: "auto" });
	const readable = await new Promise((say) => {
		film.onloadeddata = () => say(true);
		film.onerror = () => say(false);
		film.src = address;
	});
	if (!readable) {
		return null;
	}
	const canvas = Object.assign(document.createElement("canvas"), { width: film.videoWidth, height: film.videoHeight });
	canvas.getContext("2d").drawImage(film, 0, 0);
	return canvas.toDataURL("image/png").split(",")[1];
};
