package pictures

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"os"
	"time"

	"havvel/internal/project"
	"havvel/internal/settings"
	"havvel/internal/webm"
)

// clip takes a film as it is: it was recorded to fit.
func (j *job) clip(p *project.Project, path string, h *header) error {
	data, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	if j.want.Limit > 0 && int64(len(data)) > int64(j.want.Limit) {
		j.cut.say(
			Heavy,
			fmt.Sprintf(
				"%s weighs %s; %s takes a clip of %s",
				j.master.File,
				settings.Size(len(data)),
				j.order.Destination.Rules.Name,
				j.want.Limit,
			),
			"havvel pictures --from-trial records one that fits",
		)
	}
	if size := j.want.Size; size[0] > 0 && h.width > 0 && (h.width != size[0] || h.height != size[1]) {
		j.cut.say(
			Small,
			fmt.Sprintf("%s is %dx%d; %s wants a clip of %dx%d", j.master.File, h.width, h.height, j.order.Destination.Rules.Name, size[0], size[1]),
			"havvel pictures --from-trial records one of that size",
		)
	}
	if most := time.Duration(j.want.Seconds) * time.Second; most > 0 {
		if length := h.lasts(data).Round(100 * time.Millisecond); length > most {
			j.cut.say(
				Long,
				fmt.Sprintf("%s lasts %.1f s; %s takes a clip of %d s",
					j.master.File, length.Seconds(), j.order.Destination.Rules.Name, j.want.Seconds),
				"cut it shorter, or let havvel pictures --from-trial record one that fits",
			)
		}
	}
	j.cut.Width, j.cut.Height, j.cut.Type = h.width, h.height, "image/"+h.clip()
	if h.film() {
		j.cut.Type = "video/" + h.format
	}
	return j.cut.keep(p, data, h.clip())
}

// film reports whether a browser has to draw it.
func (h *header) film() bool { return h.format == "webm" || h.format == "mp4" }

// lasts is how long what moves takes from its first picture to its end; 0 when it doesn't say.
func (h *header) lasts(data []byte) time.Duration {
	switch h.format {
	case "webm":
		return webm.Length(data)
	case "mp4":
		return h.length
	case "gif":
		_, length := pictureTimes(bytes.NewReader(data), math.MaxInt)
		return length
	case "webp":
		return lengthOfWebP(data)
	case "png":
		return lengthOfPNG(data)
	}
	return 0
}

// lengthOfWebP adds the times of its frames (RFC 9649, section 2.7.1.1).
func lengthOfWebP(data []byte) (length time.Duration) {
	for rest := data[min(12, len(data)):]; len(rest) >= 8; {
		name, body := string(rest[:4]), rest[8:]
		size := min(int64(binary.LittleEndian.Uint32(rest[4:])), int64(len(body)))
		rest = body[min(size+size&1, int64(len(body))):]
		if name == "ANMF" && size >= 16 {
			length += time.Duration(uint24(body[12:])) * time.Millisecond
		}
	}
	return length
}

// lengthOfPNG adds the times of its frames (Portable Network Graphics, third edition, 11.3.6.2).
func lengthOfPNG(data []byte) (length time.Duration) {
	for rest := data[min(8, len(data)):]; len(rest) >= 12; {
		size, name, body := int64(binary.BigEndian.Uint32(rest)), string(rest[4:8]), rest[8:]
		if name == "fcTL" && size >= 26 && len(body) >= 26 {
			parts, of := binary.BigEndian.Uint16(body[20:]), binary.BigEndian.Uint16(body[22:])
			if of == 0 {
				of = 100
			}
			length += time.Duration(parts) * time.Second / time.Duration(of)
		}
		rest = body[min(size+4, int64(len(body))):]
	}
	return length
}

// clip is the format of what moves; a still PNG is none.
func (h *header) clip() string {
	if h.format == "png" && h.animated {
		return "apng"
	}
	return h.format
}
