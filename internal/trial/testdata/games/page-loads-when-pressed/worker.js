addEventListener("install", () => skipWaiting());
addEventListener("activate", (e) => e.waitUntil(clients.claim()));
addEventListener("fetch", (e) => e.request.url.endsWith("night.json") && e.respondWith((async () => {
	await new Promise((go) => setTimeout(go, 3000));
	return fetch(e.request);
})()));
