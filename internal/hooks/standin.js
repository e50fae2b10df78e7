(function (hook) {
	"use strict";
	// Stands in for a portal's script: every function that the portal has is there, answers, and says that it was called. It remembers what
	// it was given to save.
	var started = {}, kept = {}, delay = hook.mood === "portal-slow" ? 4000 : 300;
	function at(root, name) {
		var parts = name.split(".");
		for (var i = 0; i < parts.length - 1; i++) root = root[parts[i]] = root[parts[i]] || {};
		return function (f) { root[parts[i]] = f; };
	}
	function plain(v) { return typeof v === "function" ? "function" : v; }
	function heard(name, given) {
		window.dispatchEvent(new CustomEvent("havvel-heard", { detail: { call: name, arguments: Array.prototype.map.call(given, plain) } }));
	}
	// What is saved goes under all that it was given but the last, and comes back when as much is named.
	function key(given) { return JSON.stringify(given); }
	function answer(c, given) {
		if (hook.mood === "no-break" && /^(break|reward)-wanted$/.test(c.event)) return c.without;
		if (hook.mood === "signed-out" && c.event === "load") return c.without;
		if (c.event === "load" && kept[key(given)] !== undefined) {
			var found = kept[key(given)], whole = {};
			if (!c.take) return found;
			whole[c.take] = found;
			return whole;
		}
		return c.example;
	}
	function make(c, all) {
		heard(c.call, all);
		var given = Array.prototype.filter.call(all, function (a) { return typeof a !== "function"; }),
			back = Array.prototype.filter.call(all, function (a) { return typeof a === "function"; }).pop();
		var fails = hook.mood === "portal-rejects" || hook.mood === "signed-out" && c.event === "save";
		if (c.event === "save" && !fails) kept[key(given.slice(0, -1))] = given[given.length - 1];
		var value = answer(c, given);
		if (c.answers === "callback") {
			if (back) setTimeout(back, delay, fails ? c.without : value);
			return undefined;
		}
		if (c.answers === "promise") return new Promise(function (yes, no) {
			if (fails) setTimeout(no, delay, new Error(c.call + " was refused"));
			else setTimeout(yes, delay, value);
		});
		if (fails && c.answers) throw new Error(c.call + " was refused");
		return value;
	}
	hook.calls.forEach(function (c) {
		var inside = c.call.indexOf("started.") === 0;
		at(inside ? started : window, inside ? c.call.slice(8) : c.call)(function () { return make(c, arguments); });
	});
	if (hook.start) at(window, hook.start.call)(function () {
		heard(hook.start.call, arguments);
		if (hook.mood === "portal-rejects") return Promise.reject(new Error(hook.start.call + " was refused"));
		if (!hook.start.gives) return undefined;
		return new Promise(function (yes) { setTimeout(yes, hook.mood === "portal-slow" ? delay : 0, started); });
	});
})
