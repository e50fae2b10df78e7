// Adds a link over the game, in a corner, to where players can say what they think. It can be put away.
((address) => addEventListener("DOMContentLoaded", () => {
	try { if (sessionStorage.havvelFeedback) return; } catch { /* without storage it stays until it is put away */ }
	const host = document.createElement("div"), inside = host.attachShadow({ mode: "closed" });
	host.style.cssText = "all:initial;position:fixed;right:8px;bottom:8px;z-index:2147483647";
	inside.innerHTML = "<style>span{display:flex;font:14px/1 system-ui,sans-serif;background:#101318d9;border-radius:6px;overflow:hidden}" +
		"a,button{color:#f2efe8;background:none;border:0;font:inherit;padding:10px 12px;text-decoration:none;cursor:pointer}" +
		"button{padding-left:4px}a:hover,a:focus,button:hover,button:focus{background:#3a4150}</style>" +
		"<span><a target=_blank rel=noopener>Give feedback</a><button aria-label='Hide this link'>×</button></span>";
	inside.querySelector("a").href = address;
	inside.querySelector("button").onclick = () => {
		host.remove();
		try { sessionStorage.havvelFeedback = "hidden"; } catch { /* it comes back with the next page */ }
	};
	document.body.append(host);
}))
