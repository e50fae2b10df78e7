package settings_test

import (
	"fmt"
	"strings"

	"havvel/internal/fault"
	"havvel/internal/settings"
)

func ExampleRead() {
	var game struct {
		Title  string        `toml:"title"`
		Device string        `toml:"device"`
		Watch  settings.Span `toml:"watch"`
	}
	d := settings.Read("lane.toml", []byte("titel = \"Tinderwick Lane\"\ndevice = \"phon\"\nwatch = 3\n"), &game)
	d.Must("title", game.Title)
	d.Within("device", game.Device, "desktop", "tablet", "phone")
	for _, f := range fault.All(d.Err()) {
		fmt.Println(strings.TrimSpace(f.Error() + "\n  " + f.Next))
	}
	// Output:
	// lane.toml:1:1: there is no key "titel"
	//   did you mean "title"?
	// lane.toml:1:1: title is missing
	// lane.toml:2:10: device is "phon"; it can be desktop, tablet, phone
	//   did you mean "phone"?
	// lane.toml:3:9: watch: "3" has no unit; write it like "30s" or "2m"
}
