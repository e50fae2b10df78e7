// Makes a film of frames in real time: each is drawn on a canvas when its time has come, and the canvas is recorded.
window.havvelFrames = [];
window.havvelRecord = async (width, height, rate) => {
	const pictures = [];
	for (const [ms, data] of havvelFrames) {
		const bytes = Uint8Array.from(atob(data), (c) => c.charCodeAt(0));
		pictures.push([ms, await createImageBitmap(new Blob([bytes], { type: "image/jpeg" }))]);
	}
	const canvas = Object.assign(document.createElement("canvas"), { width, height });
	const g = canvas.getContext("2d", { alpha: false });
	g.imageSmoothingQuality = "high";
	const draw = (p) => {
		const scale = Math.max(width / p.width, height / p.height);
		const w = p.width * scale, h = p.height * scale;
		g.drawImage(p, (width - w) / 2, (height - h) / 2, w, h);
	};
	draw(pictures[0][1]);
	const type = ["video/webm;codecs=vp9", "video/webm;codecs=vp8", "video/webm"].find((t) => MediaRecorder.isTypeSupported(t));
	const parts = [];
	const recorder = new MediaRecorder(canvas.captureStream(30), { mimeType: type, videoBitsPerSecond: rate });
	recorder.ondataavailable = (e) => parts.push(e.data);
	const ended = new Promise((done) => (recorder.onstop = done));
	recorder.start(1000);
	const begun = performance.now();
	for (const [ms, p] of pictures) {
		const left = begun + ms - performance.now();
		if (left > 0) await new Promise((done) => setTimeout(done, left));
		draw(p);
	}
	await new Promise((done) => setTimeout(done, 200));
	recorder.stop();
	await ended;
	const bytes = new Uint8Array(await new Blob(parts).arrayBuffer());
	let text = "";
	for (let i = 0; i < bytes.length; i += 32768) text += String.fromCharCode(...bytes.subarray(i, i + 32768));
	return btoa(text);
};
