(function (hook) {
	"use strict";
	// Stands in for a portal's script: every function that the portal has is there, answers, and says that it was called.
	function at(root, name) {
		var parts = name.split(".");
		for (var i = 0; i < parts.length - 1; i++) root = root[parts[i]] = root[parts[i]] || {};
		return function (f) { root[parts[i]] = f; };
	}
	function heard(name, given) {
		window.dispatchEvent(new CustomEvent("havvel-heard", { detail: { call: name, arguments: Array.prototype.slice.call(given) } }));
	}
	var started = {};
	hook.calls.forEach(function (c) {
		var inside = c.call.indexOf("started.") === 0;
		at(inside ? started : window, inside ? c.call.slice(8) : c.call)(function () {
			heard(c.call, arguments);
			return c.answers === "promise" ? new Promise(function (yes) { setTimeout(yes, 300, c.example); }) : c.example;
		});
	});
	if (hook.start) at(window, hook.start.call)(function () {
		heard(hook.start.call, arguments);
		return hook.start.gives ? Promise.resolve(started) : undefined;
	});
})
