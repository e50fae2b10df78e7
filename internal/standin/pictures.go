package standin

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"image"
	_ "image/gif" // formats of pictures
	_ "image/jpeg"
	_ "image/png"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"

	"havvel/internal/atomicfile"
)

// largestPicture is the most that one picture may weigh, in bytes.
const largestPicture = 16 << 20

func (a *Portal) putPicture(w http.ResponseWriter, r *http.Request) {
	number, err := strconv.Atoi(r.PathValue("number"))
	if err != nil || number < 1 || number > 50 {
		refuse(w, http.StatusUnprocessableEntity, "a picture has a number from 1 on")
		return
	}
	data, err := io.ReadAll(http.MaxBytesReader(w, r.Body, largestPicture))
	if err != nil {
		refuse(w, http.StatusBadRequest, "the picture did not arrive whole")
		return
	}
	a.takePicture(w, r.PathValue("short"), r.PathValue("name"), number, data)
}

// formPicture takes a picture as part of a form (RFC 7578).
func (a *Portal) formPicture(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, largestPicture)
	f, _, err := r.FormFile("picture")
	if err != nil {
		refuse(w, http.StatusBadRequest, "the form did not arrive whole")
		return
	}
	defer f.Close()
	data, err := io.ReadAll(f)
	number, wrong := strconv.Atoi(r.FormValue("number"))
	if err != nil || wrong != nil {
		refuse(w, http.StatusBadRequest, "the form did not arrive whole")
		return
	}
	a.takePicture(w, r.PathValue("short"), r.FormValue("name"), number, data)
}

func (a *Portal) takePicture(w http.ResponseWriter, short, name string, number int, data []byte) {
	kind, width, height := kindOf(data)
	if words := a.unwanted(name, kind, width, height, len(data), number); words != "" {
		answer(w, http.StatusUnprocessableEntity, map[string]any{"problems": []fieldProblem{{name, words}}})
		return
	}
	sum := sha256.Sum256(data)
	p := shown{Name: name, Number: number, SHA256: hex.EncodeToString(sum[:]), Type: kind}
	err := atomicfile.Bytes(a.pictureFile(p.SHA256), data)
	if err == nil {
		err = a.change(func(s *state) error {
			g := s.Games[short]
			if g == nil {
				return &no{http.StatusNotFound, "there is no such game here"}
			}
			g.Uploads = slices.DeleteFunc(g.Uploads, func(u shown) bool { return u.Name == name && u.Number == number })
			g.Uploads = append(g.Uploads, p)
			return nil
		})
	}
	if err != nil {
		answerError(w, err)
		return
	}
	answer(w, http.StatusCreated, map[string]string{"picture": p.SHA256})
}

// unwanted says why a picture is refused; "" where it isn't.
func (a *Portal) unwanted(name, kind string, width, height, bytes, number int) string {
	rule, known := a.options.Page.Pictures[name]
	switch {
	case !known:
		return "we have no place for it"
	case kind == "":
		return "it is not a picture that we can open"
	case rule.Width > 0 && kind != "video/webm" && (width != rule.Width || height != rule.Height):
		return fmt.Sprintf("it has %dx%d pixels; we want %dx%d", width, height, rule.Width, rule.Height)
	case rule.Bytes > 0 && bytes > rule.Bytes:
		return fmt.Sprintf("it weighs %d bytes; we take %d", bytes, rule.Bytes)
	case rule.Most > 0 && number > rule.Most:
		return fmt.Sprintf("we take %d of them", rule.Most)
	}
	return ""
}

func kindOf(data []byte) (kind string, width, height int) {
	if bytes.HasPrefix(data, []byte("\x1a\x45\xdf\xa3")) {
		return "video/webm", 0, 0
	}
	config, format, err := image.DecodeConfig(bytes.NewReader(data))
	if err != nil {
		return "", 0, 0
	}
	return "image/" + format, config.Width, config.Height
}

func (a *Portal) pictureFile(sum string) string {
	return filepath.Join(a.options.Folder, "pictures", sum)
}

var sumForm = regexp.MustCompile(`^[0-9a-f]{64}$`)

func (a *Portal) servePicture(w http.ResponseWriter, r *http.Request) {
	if !sumForm.MatchString(r.PathValue("sha256")) {
		http.NotFound(w, r)
		return
	}
	data, err := os.ReadFile(a.pictureFile(r.PathValue("sha256")))
	if err != nil {
		http.NotFound(w, r)
		return
	}
	kind, _, _ := kindOf(data)
	w.Header().Set("Content-Type", kind)
	w.Header().Set("X-Content-Type-Options", "nosniff")
	w.Header().Set("Cross-Origin-Resource-Policy", "same-origin")
	w.Write(data)
}
