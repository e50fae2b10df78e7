package main

import (
	"bytes"
	"encoding/binary"
	"math"
	"math/rand/v2"
)

const rate = 16000 // samples a second

var sounds = []struct {
	name string
	make func() []float64
}{
	{"light", func() []float64 { return bell(660, 0.9, 0.5) }},
	{"dark", func() []float64 { return bell(330, 0.5, 0.35) }},
	{"no", knock},
	{"done", tune},
	{"night", crickets},
}

// bell is a small glass bell: partials that are not quite in tune, each dying in its own time.
func bell(pitch, seconds, strength float64) []float64 {
	s := silence(seconds)
	for _, p := range []struct{ ratio, level, decay float64 }{{1, 1, 5}, {2.01, 0.45, 7}, {2.98, 0.22, 10}, {5.4, 0.12, 18}} {
		for i := range s {
			t := float64(i) / rate
			s[i] += strength * p.level * 0.6 * math.Sin(2*math.Pi*pitch*p.ratio*t) * math.Exp(-p.decay*t) * math.Min(1, t*400)
		}
	}
	return fade(s)
}

func knock() []float64 {
	s := silence(0.18)
	for i := range s {
		t := float64(i) / rate
		s[i] = 0.5 * math.Sin(2*math.Pi*(150-260*t)*t) * math.Exp(-28*t)
	}
	return fade(s)
}

// tune is played when every lantern is lit: five bells going up.
func tune() []float64 {
	s := silence(2.4)
	for i, pitch := range []float64{440, 554.4, 659.3, 830.6, 880} {
		add(s, bell(pitch, 1.4, 0.42), float64(i)*0.15)
	}
	return fade(s)
}

// crickets is the night itself, eight seconds that can be repeated: chirps near and far over a soft wind.
func crickets() []float64 {
	const seconds = 8
	s := silence(seconds)
	chance := rand.New(rand.NewPCG(4, 4))
	for _, c := range []struct{ pitch, every, level, start float64 }{{4100, 1, 0.05, 0.2}, {3600, 1.6, 0.035, 0.7}, {4600, 2, 0.02, 1.3}} {
		for at := c.start; at < seconds-0.4; at += c.every {
			for k := range 4 {
				add(s, chirp(c.pitch, c.level), at+float64(k)*0.055)
			}
		}
	}
	low := 0.0
	wind := silence(seconds)
	for i := range wind {
		low += 0.02 * (chance.NormFloat64() - low)
		t := float64(i) / rate
		wind[i] = low * (0.10 + 0.06*math.Sin(2*math.Pi*t/seconds))
	}
	const seam = rate / 2 // the end runs into the beginning
	for i := range seam {
		t := float64(i) / seam
		wind[len(wind)-seam+i] = wind[len(wind)-seam+i] * (1 - t)
	}
	for i := range seam {
		wind[i] *= float64(i) / seam
	}
	add(s, wind, 0)
	return s
}

func chirp(pitch, level float64) []float64 {
	s := silence(0.045)
	for i := range s {
		t := float64(i) / float64(len(s))
		s[i] = level * math.Sin(math.Pi*t) * math.Sin(2*math.Pi*pitch*float64(i)/rate)
	}
	return s
}

func silence(seconds float64) []float64 { return make([]float64, int(seconds*rate)) }

func add(to, from []float64, at float64) {
	start := int(at * rate)
	for i, v := range from {
		if start+i < len(to) {
			to[start+i] += v
		}
	}
}

func fade(s []float64) []float64 {
	n := min(len(s), rate/50)
	for i := range n {
		s[len(s)-1-i] *= float64(i) / float64(n)
	}
	return s
}

// wave writes samples as a WAV file: RIFF, one channel, 16 bits.
func wave(samples []float64) []byte {
	var b bytes.Buffer
	size := uint32(len(samples) * 2)
	b.WriteString("RIFF")
	binary.Write(&b, binary.LittleEndian, 36+size)
	b.WriteString("WAVEfmt ")
	binary.Write(&b, binary.LittleEndian, struct {
		Size            uint32
		Format, Channel uint16
		Rate, Bytes     uint32
		Block, Bits     uint16
	}{16, 1, 1, rate, rate * 2, 2, 16})
	b.WriteString("data")
	binary.Write(&b, binary.LittleEndian, size)
	for _, v := range samples {
		binary.Write(&b, binary.LittleEndian, int16(32767*math.Max(-1, math.Min(1, v))))
	}
	return b.Bytes()
}
