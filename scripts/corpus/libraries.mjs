// Each library draws one lantern of the lane, in its own way. A game calls start(canvas, picture) and gets a function that draws a frame.
export const libraries = {
  none: `import { flat } from "./flat.js";
export function start(canvas, picture) { const f = flat(canvas, picture); return () => f(40, 40); }`,
  three: `import * as THREE from "three";
export function start(canvas, picture) {
  const r = new THREE.WebGLRenderer({ canvas }), s = new THREE.Scene(), c = new THREE.PerspectiveCamera(50, 2, .1, 10);
  c.position.z = 3; s.background = new THREE.Color("#204060");
  s.add(new THREE.Mesh(new THREE.BoxGeometry(), new THREE.MeshBasicMaterial({ map: new THREE.TextureLoader().load(picture) })));
  return () => r.render(s, c);
}`,
  pixi: `import { Application, Assets, Sprite } from "pixi.js";
export async function start(canvas, picture) {
  const app = new Application(); await app.init({ canvas, width: 640, height: 360, background: "#204060", preference: "webgl" });
  app.stage.addChild(new Sprite(await Assets.load(picture)));
  return () => app.render();
}`,
  p5: `import p5 from "p5";
export function start(canvas, picture) {
  let lamp; new p5(p => { p.setup = async () => { p.createCanvas(640, 360, p.P2D, canvas); lamp = await p.loadImage(picture); }; p.draw = () => { p.background(32, 64, 96); if (lamp) p.image(lamp, 20, 20); }; });
  return () => {};
}`,
  konva: `import Konva from "konva";
export function start(canvas, picture) {
  const box = document.createElement("div"); document.body.append(box);
  const stage = new Konva.Stage({ container: box, width: 640, height: 360 }), layer = new Konva.Layer(); stage.add(layer);
  layer.add(new Konva.Rect({ width: 640, height: 360, fill: "#204060" }));
  Konva.Image.fromURL(picture, i => layer.add(i)); return () => layer.draw();
}`,
  paper: `import paper from "paper/dist/paper-core.js";
export function start(canvas, picture) {
  paper.setup(canvas); new paper.Path.Rectangle({ size: [640, 360], fillColor: "#204060" }); new paper.Raster({ source: picture, position: [200, 100] });
  return () => paper.view.update();
}`,
  two: `import Two from "two.js";
export function start(canvas, picture) {
  const two = new Two({ domElement: canvas, type: Two.Types.canvas, width: 640, height: 360 }); two.makeRectangle(320, 180, 640, 360).fill = "#204060"; two.makeSprite(picture, 100, 100);
  return () => two.update();
}`,
  ogl: `import { Renderer, Camera, Transform, Box, Program, Mesh } from "ogl";
export function start(canvas, picture) {
  const r = new Renderer({ canvas }), gl = r.gl, c = new Camera(gl), s = new Transform(); c.position.z = 5; gl.clearColor(.1, .25, .4, 1); new Image().src = picture;
  const program = new Program(gl, { vertex: "attribute vec3 position;uniform mat4 modelViewMatrix;uniform mat4 projectionMatrix;void main(){gl_Position=projectionMatrix*modelViewMatrix*vec4(position,1.);}", fragment: "void main(){gl_FragColor=vec4(1.,.8,.4,1.);}" });
  new Mesh(gl, { geometry: new Box(gl), program }).setParent(s); return () => r.render({ scene: s, camera: c });
}`,
  regl: `import create from "regl";
export function start(canvas, picture) {
  const regl = create(canvas); new Image().src = picture;
  const draw = regl({ vert: "attribute vec2 p;void main(){gl_Position=vec4(p,0.,1.);}", frag: "void main(){gl_FragColor=vec4(1.,.8,.4,1.);}", attributes: { p: [[-1, 0], [0, -1], [1, 1]] }, count: 3 });
  return () => { regl.clear({ color: [.1, .25, .4, 1] }); draw(); };
}`,
  twgl: `import * as twgl from "twgl.js";
export function start(canvas, picture) {
  const gl = canvas.getContext("webgl"); twgl.createTexture(gl, { src: picture });
  return () => { gl.clearColor(.1, .25, .4, 1); gl.clear(gl.COLOR_BUFFER_BIT); gl.enable(gl.SCISSOR_TEST); gl.scissor(10, 10, 80, 80); gl.clearColor(1, .8, .4, 1); gl.clear(gl.COLOR_BUFFER_BIT); gl.disable(gl.SCISSOR_TEST); };
}`,
  matter: `import Matter from "matter-js";
import { flat } from "./flat.js";
export function start(canvas, picture) {
  const e = Matter.Engine.create(), b = Matter.Bodies.rectangle(100, 0, 40, 40); Matter.Composite.add(e.world, b); const f = flat(canvas, picture);
  return () => { Matter.Engine.update(e, 16); f(b.position.x, b.position.y); };
}`,
  planck: `import { World, Box, Vec2 } from "planck";
import { flat } from "./flat.js";
export function start(canvas, picture) {
  const w = new World(new Vec2(0, 10)), b = w.createDynamicBody(new Vec2(10, 0)); b.createFixture(new Box(1, 1), 1); const f = flat(canvas, picture);
  return () => { w.step(1 / 60); f(b.getPosition().x * 10, b.getPosition().y); };
}`,
  cannon: `import { World, Body, Sphere, Vec3 } from "cannon-es";
import { flat } from "./flat.js";
export function start(canvas, picture) {
  const w = new World({ gravity: new Vec3(0, 9, 0) }), b = new Body({ mass: 1, shape: new Sphere(1) }); w.addBody(b); const f = flat(canvas, picture);
  return () => { w.step(1 / 60); f(100, b.position.y); };
}`,
  howler: `import { Howl } from "howler";
import { flat } from "./flat.js";
import bell from "./art/bell.wav";
export function start(canvas, picture) { new Howl({ src: [bell] }); const f = flat(canvas, picture); return () => f(60, 60); }`,
  tone: `import * as Tone from "tone";
import { flat } from "./flat.js";
import bell from "./art/bell.wav";
export function start(canvas, picture) { new Tone.Player(bell).toDestination(); const f = flat(canvas, picture); return () => f(60, 60); }`,
  gsap: `import { gsap } from "gsap";
import { flat } from "./flat.js";
export function start(canvas, picture) { const at = { x: 0 }, f = flat(canvas, picture); gsap.to(at, { x: 300, duration: 2, repeat: -1 }); return () => f(at.x, 50); }`,
  preact: `import { h, render } from "preact";
export function start(canvas, picture) { const box = document.createElement("div"); document.body.append(box); render(h("div", { style: "background:#204060;padding:40px" }, h("img", { src: picture })), box); return () => {}; }`,
  react: `import { createElement as h } from "react"; import { createRoot } from "react-dom/client";
export function start(canvas, picture) { const box = document.createElement("div"); document.body.append(box); createRoot(box).render(h("div", { style: { background: "#204060", padding: 40 } }, h("img", { src: picture }))); return () => {}; }`,
  vue: `import { createApp, h } from "vue";
export function start(canvas, picture) { const box = document.createElement("div"); document.body.append(box); createApp({ render: () => h("div", { style: "background:#204060;padding:40px" }, h("img", { src: picture })) }).mount(box); return () => {}; }`,
  lit: `import { html, render } from "lit";
export function start(canvas, picture) { const box = document.createElement("div"); document.body.append(box); render(html\`<div style="background:#204060;padding:40px"><img src=\${picture}></div>\`, box); return () => {}; }`,
  jquery: `import $ from "jquery";
export function start(canvas, picture) { $("body").append($("<div>").css({ background: "#204060", padding: 40 }).append($("<img>").attr("src", picture))); return () => {}; }`,
  d3: `import { select } from "d3";
export function start(canvas, picture) { const s = select(document.body).append("svg").attr("width", 640).attr("height", 360); s.append("rect").attr("width", 640).attr("height", 360).attr("fill", "#204060"); s.append("image").attr("href", picture).attr("width", 64); return () => {}; }`,
  kontra: `import { init, Sprite, GameLoop } from "kontra";
export function start(canvas, picture) { const { context } = init(canvas); const image = new Image(); image.src = picture; const s = Sprite({ x: 40, y: 40, image }); GameLoop({ update: () => s.update(), render: () => { context.fillStyle = "#204060"; context.fillRect(0, 0, 640, 360); s.render(); } }).start(); return () => {}; }`,
};
