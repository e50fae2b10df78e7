// Words and panels: letters from a sheet of distances, so that they are sharp at any size and can glow.

function writer(gl, sheet, table) {
	const letters = program(gl, `
layout(location=0) in vec4 box; layout(location=1) in vec4 cut; layout(location=2) in vec4 ink; layout(location=3) in vec4 form;
${corner}
out vec2 uv; out vec4 colour; out vec4 shape;
void main() { gl_Position = place(box); uv = mix(cut.xw, cut.zy, local * .5 + .5); colour = ink; shape = form; }`, `
in vec2 uv; in vec4 colour; in vec4 shape; out vec4 result;
uniform sampler2D sheet;
void main() {
	float near = texture(sheet, uv).r;
	float soft = max(fwidth(near), .02);
	float body = smoothstep(shape.x - soft, shape.x + soft, near);
	float glow = near * near * shape.y * (1. - body);
	result = vec4(colour.rgb * body + colour.rgb * vec3(1., .72, .4) * glow, body) * colour.a;
	result.a = body * colour.a;
}`);
	const panels = program(gl, `
layout(location=0) in vec4 box; layout(location=1) in vec4 fill; layout(location=2) in vec4 rim; layout(location=3) in vec4 form;
${corner}
out vec2 half_; out vec4 inner; out vec4 edge; out vec4 shape;
void main() { gl_Position = place(box); half_ = box.zw; inner = fill; edge = rim; shape = form; }`, `
in vec2 local; in vec2 half_; in vec4 inner; in vec4 edge; in vec4 shape; out vec4 result;
void main() {
	float r = min(shape.x, min(half_.x, half_.y) - 1.);
	vec2 q = abs(local) * half_ - (half_ - 1. - r);
	float d = length(max(q, 0.)) + min(max(q.x, q.y), 0.) - r;
	float body = clamp(.5 - d, 0., 1.);
	float line = body * clamp(d + shape.y + .5, 0., 1.);
	vec4 c = mix(inner, edge, line * edge.a);
	result = vec4(c.rgb * c.a, c.a) * body;
}`);
	const page = texture(gl, sheet);
	const glyphs = batch(gl, letters, 16);
	const boxes = batch(gl, panels, 16);
	const { unit, around, base, glyphs: known } = table;
	const wide = (c, h) => (c === " " ? 2.6 : known[c] ? known[c].a : 0) * (h / 7);
	const gap = (h, loose) => (1.15 + loose) * (h / 7);

	function measure(words, h, loose = 0) {
		let w = 0;
		for (const c of words.toUpperCase()) w += wide(c, h) + gap(h, loose);
		return w - gap(h, loose);
	}

	return {
		measure,
		// put writes words of height h with their middle at y; anchor 0 starts at x, 0.5 is centred, 1 ends there.
		put(words, x, y, h, { anchor = 0.5, ink = [1, 0.87, 0.66], alpha = 1, glow = 0.35, weight = 0.34, loose = 0 } = {}) {
			words = words.toUpperCase();
			x -= measure(words, h, loose) * anchor;
			const scale = h / (7 * unit);
			for (const c of words) {
				const g = known[c];
				if (g) {
					const w = g.w * scale, high = g.h * scale;
					const left = x - around * scale, top = y + h / 2 - base * scale;
					glyphs.add(left + w / 2, top + high / 2, w / 2, high / 2,
						g.x / sheet.width, g.y / sheet.height, (g.x + g.w) / sheet.width, (g.y + g.h) / sheet.height,
						ink[0], ink[1], ink[2], alpha, 1 - weight, glow, 0, 0);
				}
				x += wide(c, h) + gap(h, loose);
			}
		},
		panel(x, y, w, h, { fill = [0.02, 0.03, 0.08, 0.6], rim = [1, 0.8, 0.5, 0.35], radius = 10, line = 1.5 } = {}) {
			boxes.add(x + w / 2, y + h / 2, w / 2 + 1, h / 2 + 1, ...fill, ...rim, radius, line, 0, 0);
		},
		draw(width, height) {
			gl.blendFunc(gl.ONE, gl.ONE_MINUS_SRC_ALPHA);
			boxes.draw(width, height);
			glyphs.draw(width, height, (p) => {
				gl.activeTexture(gl.TEXTURE0);
				gl.bindTexture(gl.TEXTURE_2D, page);
				gl.uniform1i(p.at("sheet"), 0);
			});
		},
	};
}
