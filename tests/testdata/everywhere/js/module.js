import name from "./parts/one.js"; onmessage = (e) => postMessage(name + e.data + import.meta.url.endsWith("js/module.js"));
