import { lanterns } from "./lanterns.js";
const c = document.getElementById("lane").getContext("2d");
const picture = new Image();
picture.src = "lamp.png";
const [lane, rules] = await Promise.all([
	fetch("levels/one.json").then((r) => r.json()),
	fetch("rules.wasm").then((r) => r.arrayBuffer()).then((b) => WebAssembly.instantiate(b)),
	picture.decode(),
]);
const add = rules.instance.exports.add;
let lit = 0;
addEventListener("pointerdown", () => { lit = add(lit, 1); window.lane = { lit }; });
function draw(t) {
	c.fillStyle = "#204060";
	c.fillRect(0, 0, 960, 540);
	c.fillStyle = "#806040";
	c.fillRect(0, 380, 960, 160);
	lanterns(c, picture, lane.lanterns, lit, t);
	requestAnimationFrame(draw);
}
requestAnimationFrame(draw);
