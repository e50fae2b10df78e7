order.push("plain");
window.ownAddress = document.currentScript.src;
window.later = () => import("./lane.js").then((m) => m.name);
