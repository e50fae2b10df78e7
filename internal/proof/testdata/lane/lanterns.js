export function lanterns(c, picture, count, lit, t) {
	for (let i = 0; i < count; i++) c.drawImage(picture, 60 + i * 220, 150, 160, 160);
	c.fillStyle = lit ? "#ffcc55" : "#ccaa77";
	c.beginPath();
	c.arc(480 + 300 * Math.sin(t / 700), 450, 40, 0, 7);
	c.fill();
}
