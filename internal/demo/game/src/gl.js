// Drawing: programs, textures, and batches of quads.

function program(gl, vertex, fragment) {
	const p = gl.createProgram();
	for (const [kind, text] of [[gl.VERTEX_SHADER, vertex], [gl.FRAGMENT_SHADER, fragment]]) {
		const s = gl.createShader(kind);
		gl.shaderSource(s, "#version 300 es\nprecision highp float;\n" + text);
		gl.compileShader(s);
		if (!gl.getShaderParameter(s, gl.COMPILE_STATUS) && !gl.isContextLost()) throw new Error(gl.getShaderInfoLog(s));
		gl.attachShader(p, s);
	}
	gl.linkProgram(p);
	if (!gl.getProgramParameter(p, gl.LINK_STATUS) && !gl.isContextLost()) throw new Error(gl.getProgramInfoLog(p));
	const places = {};
	return {
		use: () => gl.useProgram(p),
		id: p,
		at: (name) => (name in places ? places[name] : (places[name] = gl.getUniformLocation(p, name))),
	};
}

function texture(gl, picture, { repeat = false, mip = false } = {}) {
	const t = gl.createTexture();
	gl.bindTexture(gl.TEXTURE_2D, t);
	gl.pixelStorei(gl.UNPACK_PREMULTIPLY_ALPHA_WEBGL, false);
	gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, gl.RGBA, gl.UNSIGNED_BYTE, picture);
	const wrap = repeat ? gl.REPEAT : gl.CLAMP_TO_EDGE;
	gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_WRAP_S, wrap);
	gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_WRAP_T, wrap);
	gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_MIN_FILTER, mip ? gl.LINEAR_MIPMAP_LINEAR : gl.LINEAR);
	gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_MAG_FILTER, gl.LINEAR);
	if (mip) gl.generateMipmap(gl.TEXTURE_2D);
	return t;
}

// A batch draws many quads at once: each is `fields` numbers wide, the first four being x, y of its middle
// and half its width and height, in pixels of the canvas.
function batch(gl, prog, fields) {
	const array = gl.createVertexArray();
	const buffer = gl.createBuffer();
	gl.bindVertexArray(array);
	gl.bindBuffer(gl.ARRAY_BUFFER, buffer);
	for (let i = 0; i * 4 < fields; i++) {
		gl.enableVertexAttribArray(i);
		gl.vertexAttribPointer(i, 4, gl.FLOAT, false, fields * 4, i * 16);
		gl.vertexAttribDivisor(i, 1);
	}
	gl.bindVertexArray(null);
	let numbers = new Float32Array(fields * 64);
	let count = 0;
	return {
		add(...values) {
			if ((count + 1) * fields > numbers.length) {
				const larger = new Float32Array(numbers.length * 2);
				larger.set(numbers);
				numbers = larger;
			}
			numbers.set(values, count++ * fields);
		},
		draw(width, height, before) {
			if (count) {
				prog.use();
				gl.uniform2f(prog.at("size"), width, height);
				if (before) before(prog);
				gl.bindVertexArray(array);
				gl.bindBuffer(gl.ARRAY_BUFFER, buffer);
				gl.bufferData(gl.ARRAY_BUFFER, numbers.subarray(0, count * fields), gl.DYNAMIC_DRAW);
				gl.drawArraysInstanced(gl.TRIANGLE_STRIP, 0, 4, count);
				gl.bindVertexArray(null);
			}
			count = 0;
		},
	};
}

// corner places one corner of a quad; y runs down in pixels and up in `local`.
const corner = `
uniform vec2 size;
out vec2 local;
vec4 place(vec4 box) {
	local = vec2(gl_VertexID & 1, gl_VertexID >> 1) * 2. - 1.;
	vec2 p = box.xy + local * vec2(1., -1.) * box.zw;
	return vec4(p / size * vec2(2., -2.) + vec2(-1., 1.), 0., 1.);
}`;
