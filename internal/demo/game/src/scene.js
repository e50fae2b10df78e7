// The scene: sky, houses, wet paving, lanterns, their light, moths and sparks.

const skyShader = `
out vec4 result;
uniform vec2 size; uniform float time, warm, horizon; uniform vec2 look; uniform vec4 lamps[8];
uniform sampler2D houses, cobbles, mist;
float hash(vec2 p) { p = fract(p * vec2(123.34, 456.21)); p += dot(p, p + 45.32); return fract(p.x * p.y); }
vec3 sky(vec2 p, float wide) {
	float up = clamp((p.y - horizon) / (1. - horizon), 0., 1.);
	vec3 c = mix(vec3(.105, .115, .225), vec3(.012, .016, .055), pow(up, .62));
	float slim = clamp(wide, .55, 1.);
	vec2 moon = vec2(wide * .5 + min(wide * .405, .80), 1. - .125 * slim) + look * .004;
	float d = distance(p, moon);
	vec2 cell = floor(p * 46.), inside = fract(p * 46.) - .5;
	float chance = hash(cell);
	vec2 off = (vec2(hash(cell + 7.), hash(cell + 3.)) - .5) * .7;
	float star = smoothstep(.10, .0, length(inside - off)) * step(.86, chance) * (.45 + .55 * sin(time * (1. + chance * 2.) + chance * 90.));
	float cloud = texture(mist, p * vec2(.42, .9) + vec2(time * .006, 0.)).r * .6 + texture(mist, p * vec2(1.1, 2.1) - vec2(time * .009, 0.)).r * .4;
	cloud = smoothstep(.50, .86, cloud) * smoothstep(0., .3, up);
	c += star * (1. - cloud) * vec3(.75, .82, 1.) * smoothstep(.05, .4, up);
	c += vec3(.40, .44, .55) * exp(-d * 9.) * .5 + vec3(.30, .33, .45) * exp(-d * 2.6) * .22;
	float crater = texture(mist, (p - moon) * 5.).r;
	c = mix(c, vec3(.93, .92, .84) * (.78 + .3 * crater), smoothstep(.0585, .0555, d / slim) * (1. - cloud * .55));
	return mix(c, vec3(.085, .095, .17) + vec3(.25, .26, .3) * exp(-d * 4.5), cloud * .62);
}
void main() {
	vec2 p = gl_FragCoord.xy / size.y;
	float wide = size.x / size.y;
	vec3 c;
	if (p.y >= horizon) {
		c = sky(p, wide);
		float y = p.y - horizon;
		vec4 far = texture(houses, vec2(p.x * .46 + .37 + look.x * .004, 1. - clamp(y / .40, 0., .995)));
		c = mix(c, vec3(.046, .055, .118) + warm * vec3(.03, .017, .004), far.r);
		vec4 near = texture(houses, vec2(p.x * .60 + look.x * .009, 1. - clamp(y / .335, 0., .995)));
		vec3 wall = vec3(.017, .021, .052);
		for (int i = 0; i < 8; i++) {
			vec2 d = p - lamps[i].xy;
			wall += lamps[i].z * vec3(.30, .150, .05) * exp(-dot(d, d) * 9.) * .42;
		}
		wall *= .75 + .5 * texture(mist, p * 6.).r;
		c = mix(c, wall, near.g);
		float flicker = .82 + .18 * sin(time * (1.5 + near.b * 4.) + near.b * 60.);
		c += near.g * step(.2, near.b) * near.b * vec3(1., .56, .2) * (.16 + .62 * warm) * flicker;
		float fog = texture(mist, vec2(p.x * .5 + time * .012, y * 1.6)).r;
		c += vec3(.055, .062, .10) * smoothstep(.20, 0., y) * fog * 1.3 + vec3(.10, .05, .015) * warm * smoothstep(.22, 0., y) * fog;
	} else {
		float y = horizon - p.y;
		float depth = .105 / (y + .028);
		vec2 at = vec2((p.x - wide * .5 + look.x * .006) * depth * 2.1, depth * 2.6);
		float sharp = smoothstep(3.6, .9, depth);
		vec3 stone = texture(cobbles, at * .80).rgb;
		vec2 slope = (stone.rg - .5) * sharp;
		float high = mix(.62, stone.b, sharp);
		c = vec3(.014, .017, .038) + high * vec3(.020, .026, .052);
		float moonway = p.x - (wide * .5 + min(wide * .405, .80));
		c += vec3(.20, .23, .32) * exp(-pow(abs(moonway + slope.x * .8) * 6., 1.4)) * (.2 + max(0., slope.y + .1)) * .8;
		for (int i = 0; i < 8; i++) {
			float side = p.x - lamps[i].x;
			float streak = exp(-pow(abs(side + slope.x * .5) * (8. + 6. * y), 1.3));
			float facing = .30 + 1.9 * max(0., slope.y + .06) + .5 * high;
			float pool = exp(-side * side * 5. - y * 1.2) * .36 * high;
			c += lamps[i].z * vec3(1., .52, .17) * (streak * facing * .55 + pool) * (.5 + .5 * exp(-y * 2.));
		}
		c *= .55 + .45 * high;
		float fog = texture(mist, vec2(p.x * .7 + time * .02, y * 2.)).r;
		c += (vec3(.045, .050, .085) + warm * vec3(.07, .035, .01)) * smoothstep(.16, 0., y) * fog;
	}
	vec2 edge = gl_FragCoord.xy / size - .5;
	c *= 1. - dot(edge, edge) * .75;
	c += (hash(gl_FragCoord.xy + fract(time)) - .5) / 160.;
	result = vec4(pow(max(c, 0.), vec3(.88)), 1.);
}`;

const lanternShader = `
in vec2 local; in vec4 look_; in vec4 more; out vec4 result;
uniform float time;
float box(vec2 p, vec2 h) { vec2 q = abs(p) - h; return length(max(q, 0.)) + min(max(q.x, q.y), 0.); }
float trapeze(vec2 p, float low, float high, float tall) { // halves of width below and above
	vec2 k1 = vec2(high, tall), k2 = vec2(high - low, 2. * tall);
	p.x = abs(p.x);
	vec2 ca = vec2(p.x - min(p.x, p.y < 0. ? low : high), abs(p.y) - tall);
	vec2 cb = p - k1 + k2 * clamp(dot(k1 - p, k2) / dot(k2, k2), 0., 1.);
	float s = cb.x < 0. && ca.y < 0. ? -1. : 1.;
	return s * sqrt(min(dot(ca, ca), dot(cb, cb)));
}
void over(inout vec4 under, vec3 c, float a) { under = vec4(mix(under.rgb, c, a) * 1., max(under.a, a)); }
void main() {
	float lit = look_.x, angle = look_.y, phase = look_.z, focus = look_.w, pixel = more.x;
	vec2 p = local;
	float flicker = .93 + .05 * sin(time * 9. + phase * 7.) + .03 * sin(time * 23. + phase * 3.);
	result = vec4(0.);
	float rope = abs(p.y - (.80 + .13 * p.x * p.x)) - .013;
	over(result, vec3(.045, .042, .065) + max(lit, 0.) * vec3(.10, .05, .015), clamp(.5 - rope / pixel, 0., 1.) * more.y);
	if (lit < -.5) {
		result.rgb *= result.a;
		return;
	}
	vec2 hang = vec2(0., .80);
	p -= hang;
	p = mat2(cos(angle), -sin(angle), sin(angle), cos(angle)) * p + hang;
	float ring = min(abs(length(p - vec2(0., .66)) - .06) - .02, box(p - vec2(0., .765), vec2(.012, .04)));
	float roof = min(trapeze(p - vec2(0., .46), .40, .11, .13) - .015, box(p - vec2(0., .315), vec2(.42, .022)) - .012);
	float foot = min(box(p - vec2(0., -.475), vec2(.32, .028)) - .012, box(p - vec2(0., -.55), vec2(.20, .03)) - .012);
	float glass = trapeze(p - vec2(0., -.075), .27, .345, .365);
	float metal = min(min(ring, roof), foot);
	float inGlass = clamp(.5 - glass / pixel, 0., 1.);
	vec2 f = p - vec2(.015 * sin(time * 6. + phase), -.20);
	float body = length(f * vec2(1.9, .95 - .25 * smoothstep(-.1, .35, f.y)));
	vec3 warm = mix(vec3(1., .90, .62), vec3(.98, .46, .11), smoothstep(.05, .62, length(p - vec2(0., -.12)) * 1.25));
	warm = mix(warm, vec3(1., .98, .88), smoothstep(.25, .06, body));
	vec3 cold = vec3(.046, .062, .118) + vec3(.10, .125, .19) * smoothstep(.06, .0, abs(p.x - .17 - p.y * .06)) + vec3(.015, .02, .035) * (p.y + .4);
	cold += vec3(.03, .025, .03) * smoothstep(.03, .0, box(p - vec2(0., -.36), vec2(.04, .07)));
	over(result, mix(cold, warm * flicker, lit), inGlass * .97);
	float rim = smoothstep(.05, .0, -metal) * smoothstep(-.3, .4, p.x * .8 + p.y * .5);
	vec3 iron = vec3(.072, .074, .118) + rim * vec3(.20, .23, .33) + lit * vec3(.22, .10, .03) * smoothstep(.34, .05, abs(glass));
	over(result, iron, clamp(.5 - metal / pixel, 0., 1.));
	float frame = min(abs(glass + .004) - .017, max(min(abs(p.x) - .011, abs(p.y - .03) - .009), glass));
	over(result, iron * (1. - .35 * lit), clamp(.5 - frame / pixel, 0., 1.));
	float halo = abs(length((local - vec2(0., .02)) * vec2(1., .82)) - .74) - .012;
	float dash = smoothstep(-.2, .2, sin(atan(local.y, local.x) * 9. + time * 1.5));
	over(result, vec3(1., .84, .55), clamp(.5 - halo / pixel, 0., 1.) * focus * dash * .8);
	result.rgb *= result.a;
}`;

// surface is a picture that is drawn apart, and shown in any size.
function surface(gl) {
	const buffer = gl.createFramebuffer(), picture = gl.createTexture();
	const copy = program(gl, `out vec2 at;
void main() { at = vec2(gl_VertexID & 1, gl_VertexID >> 1); gl_Position = vec4(at * 2. - 1., 0., 1.); }`,
		`in vec2 at; out vec4 result; uniform sampler2D picture; void main() { result = texture(picture, at); }`);
	let w = 0, h = 0, age = 0;
	return {
		// begin has what follows drawn on it, where it is time for that.
		begin(width, height, pace) {
			if (width === w && height === h && ++age < pace) return false;
			age = 0;
			gl.bindFramebuffer(gl.FRAMEBUFFER, buffer);
			if (width !== w || height !== h) {
				w = width, h = height;
				gl.bindTexture(gl.TEXTURE_2D, picture);
				gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA8, w, h, 0, gl.RGBA, gl.UNSIGNED_BYTE, null);
				gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_MIN_FILTER, gl.LINEAR);
				gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_WRAP_S, gl.CLAMP_TO_EDGE);
				gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_WRAP_T, gl.CLAMP_TO_EDGE);
				gl.framebufferTexture2D(gl.FRAMEBUFFER, gl.COLOR_ATTACHMENT0, gl.TEXTURE_2D, picture, 0);
			}
			gl.viewport(0, 0, w, h);
			return true;
		},
		show(width, height) {
			gl.bindFramebuffer(gl.FRAMEBUFFER, null);
			gl.viewport(0, 0, width, height);
			gl.disable(gl.BLEND);
			copy.use();
			gl.activeTexture(gl.TEXTURE0);
			gl.bindTexture(gl.TEXTURE_2D, picture);
			gl.uniform1i(copy.at("picture"), 0);
			gl.drawArrays(gl.TRIANGLE_STRIP, 0, 4);
			gl.bindTexture(gl.TEXTURE_2D, null);
			gl.enable(gl.BLEND);
		},
	};
}

function scenery(gl, pictures) {
	const whole = program(gl, `void main() { vec2 p = vec2(gl_VertexID & 1, gl_VertexID >> 1) * 2. - 1.; gl_Position = vec4(p, 0., 1.); }`, skyShader);
	const lantern = program(gl, `
layout(location=0) in vec4 box; layout(location=1) in vec4 one; layout(location=2) in vec4 two;
${corner}
out vec4 look_; out vec4 more;
void main() { gl_Position = place(box); look_ = one; more = vec4(1.4 / box.z, two.y, two.zw); }`, lanternShader);
	const light = program(gl, `
layout(location=0) in vec4 box; layout(location=1) in vec4 ink;
${corner}
out vec4 colour;
void main() { gl_Position = place(box); colour = ink; }`, `
in vec2 local; in vec4 colour; out vec4 result;
void main() { float d = length(local); float f = max(0., 1. - d); result = vec4(colour.rgb * colour.a * (f * f * .5 + f * f * f * f * .8), 0.); }`);
	const lanterns = batch(gl, lantern, 12);
	const lights = batch(gl, light, 8);
	const images = {
		houses: texture(gl, pictures.houses, { repeat: true }),
		cobbles: texture(gl, pictures.cobbles, { repeat: true, mip: true }),
		mist: texture(gl, pictures.mist, { repeat: true, mip: true }),
	};
	const columns = new Float32Array(32);
	const behind = surface(gl); // the backdrop costs most by far, so it is drawn small, and not every time

	return {
		lanterns,
		lights,
		// backdrop draws everything behind the lanterns, with a share of the pixels along a side (grain) and every so many frames (pace).
		// lamps are up to eight {x, y, light} in pixels.
		backdrop(width, height, { time, warm, horizon, look, lamps, grain, pace }) {
			const w = Math.max(1, Math.round(width * grain)), h = Math.max(1, Math.round(height * grain));
			if (!behind.begin(w, h, pace)) {
				behind.show(width, height);
				return;
			}
			gl.disable(gl.BLEND);
			whole.use();
			gl.uniform2f(whole.at("size"), w, h);
			gl.uniform1f(whole.at("time"), time);
			gl.uniform1f(whole.at("warm"), warm);
			gl.uniform1f(whole.at("horizon"), horizon);
			gl.uniform2f(whole.at("look"), look[0], look[1]);
			columns.fill(0);
			lamps.slice(0, 8).forEach((l, i) => columns.set([l.x / height, 1 - l.y / height, l.light, 0], i * 4));
			gl.uniform4fv(whole.at("lamps"), columns);
			["houses", "cobbles", "mist"].forEach((name, i) => {
				gl.activeTexture(gl.TEXTURE0 + i);
				gl.bindTexture(gl.TEXTURE_2D, images[name]);
				gl.uniform1i(whole.at(name), i);
			});
			gl.drawArrays(gl.TRIANGLE_STRIP, 0, 4);
			behind.show(width, height);
		},
		// front draws the lanterns that were added, then all light, which adds up.
		front(width, height, time) {
			gl.blendFunc(gl.ONE, gl.ONE_MINUS_SRC_ALPHA);
			lanterns.draw(width, height, (p) => gl.uniform1f(p.at("time"), time));
			gl.blendFunc(gl.ONE, gl.ONE);
			lights.draw(width, height);
		},
	};
}
