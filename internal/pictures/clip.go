package pictures

import (
	"fmt"
	"os"

	"havvel/internal/project"
	"havvel/internal/settings"
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
	j.cut.Width, j.cut.Height, j.cut.Type = h.width, h.height, "image/"+h.clip()
	if h.format == "webm" {
		j.cut.Type = "video/webm"
	}
	return j.cut.keep(p, data, h.clip())
}

// clip is the format of what moves; a still PNG is none.
func (h *header) clip() string {
	if h.format == "png" && h.animated {
		return "apng"
	}
	return h.format
}
