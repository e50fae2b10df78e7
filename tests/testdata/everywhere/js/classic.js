importScripts("tool.js"); fetch("../levels.json").then((r) => r.json()).then((l) => postMessage([tool, l.lanterns, location.pathname.endsWith("js/classic.js")].join()));
