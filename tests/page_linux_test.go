package tests

import (
	"bytes"
	"image"
	"image/color"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"havvel/internal/demo/game"
)

// TestPicturesMemory cuts masters that are as large as they may be, within the memory that every command has.
func TestPicturesMemory(t *testing.T) {
	unraced(t)
	_, project, env := at(t, "brackwater", nil)
	wide := image.NewNRGBA(image.Rect(0, 0, 20_000, 1_600))
	for i := 0; i < len(wide.Pix); i += 4 {
		wide.Pix[i], wide.Pix[i+1], wide.Pix[i+2], wide.Pix[i+3] = uint8(i>>9), uint8(i>>17), 90, 255
	}
	deep := image.NewNRGBA64(image.Rect(0, 0, 4_000, 4_000))
	for y := range 4_000 {
		for x := 0; x < 4_000; x += 3 {
			deep.SetNRGBA64(x, y, color.NRGBA64{uint16(x * 16), uint16(y * 16), 9000, uint16(60_000 + x)})
		}
	}
	toml := strings.Split(snapshot(t, project)["/havvel.toml"], "# Masters")[0]
	for name, m := range map[string]image.Image{"wide.png": wide, "deep.png": deep,
		"vast.png": image.NewGray(image.Rect(0, 0, 20_000, 10_000))} {
		f, err := os.Create(filepath.Join(project, name))
		if err != nil {
			t.Fatal(err)
		}
		if err := (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(f, m); err != nil {
			t.Fatal(err)
		}
		if err := f.Close(); err != nil {
			t.Fatal(err)
		}
		toml += "\n[[picture]]\nfile = \"" + name + "\"\nroles = [\"screenshot\"]\n"
	}
	toml += "\n[[picture]]\nfile = \"wide.png\"\nroles = [\"cover\", \"icon\", \"banner\"]\n"
	writeInto(t, project, game.Files{"havvel.toml": []byte(toml)})
	c := exec.Command(program, "pictures")
	c.Dir, c.Env = project, append(os.Environ(), env...)
	var out bytes.Buffer
	c.Stdout, c.Stderr = &out, &out
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	stop, used := make(chan bool), make(chan float64, 1)
	go func() { used <- watchMemory(c.Process.Pid, stop) }()
	c.Wait() // that it says no to the vast one is looked at below
	close(stop)
	if !strings.Contains(out.String(), "vast.png: 20000x10000 pixels take 190 MB to open") || strings.Count(out.String(), "1280x720") < 2 {
		t.Fatalf("%s", out.String())
	}
	if most := <-used; most > 256e6 || most == 0 {
		t.Errorf("it took %.0f bytes", most)
	}
}
