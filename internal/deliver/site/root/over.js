// Shows, in the game's place, that it is not open any more.
((until, words) => {
	if (Date.now() < until) return;
	stop();
	const page = document.documentElement;
	page.innerHTML = "<head><meta name=viewport content='width=device-width'></head><body><p role=status></p></body>";
	page.style.cssText = "color-scheme:dark;background:#101318;color:#c9c6bf;font:16px/1.5 system-ui,sans-serif";
	document.body.style.cssText = "margin:0;padding:1rem;min-height:90vh;display:grid;place-items:center";
	document.querySelector("p").textContent = words;
})
