(function (hooks) {
	"use strict";
	// Turns the events that the game sends into the portal's own calls. Nothing here may stop the game.
	var started = {}, waiting = [], ready = !hooks.start;
	function find(name) {
		var at = name.indexOf("started.") ? window : started, parts = name.split("."), i;
		for (i = at === window ? 0 : 1; at && i < parts.length - 1; i++) at = at[parts[i]];
		if (!at || typeof at[parts[i]] !== "function") throw new Error("there is no " + name);
		return at[parts[i]].bind(at);
	}
	function fill(v, d) {
		var m = /^\{(\w+)\}$/.exec(v);
		return m ? d[m[1]] : v;
	}
	function make(c, d) {
		var given = c.arguments.map(function (v) { return fill(v, d); });
		try {
			if (c.back) return new Promise(function (yes) { find(c.call).apply(null, given.concat(yes)); });
			return Promise.resolve(find(c.call).apply(null, given));
		} catch (e) {
			return Promise.reject(e);
		}
	}
	function lost(e) {
		console.warn("havvel: " + (e && e.message || e));
	}
	function tell(c, d, v) {
		if (c.take && v) v = v[c.take];
		window.dispatchEvent(new CustomEvent("game-answer", { detail: { event: d.event, value: v } }));
	}
	function hear(c, d) {
		var answer = make(c, d);
		if (c.answers) answer.then(function (v) { tell(c, d, v); }, function (e) { lost(e); tell(c, d); });
		else answer.catch(lost);
	}
	function go() {
		ready = true;
		waiting.splice(0).forEach(function (w) { hear(w[0], w[1]); });
	}
	window.addEventListener("game-event", function (e) {
		var d = e.detail || {};
		hooks.calls.forEach(function (c) {
			if (c.event !== d.event) return;
			if (c.answers) e.preventDefault();
			if (ready) hear(c, d);
			else waiting.push([c, d]);
		});
	});
	if (hooks.start) {
		setTimeout(go, 10000);
		make(hooks.start, {}).then(function (v) { started = hooks.start.gives && v || {}; go(); }, function (e) { lost(e); go(); });
	}
})
