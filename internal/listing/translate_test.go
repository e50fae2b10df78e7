package listing_test

import (
	"strings"
	"testing"
)

// TestTranslations: texts in another language fill the same fields, by the same limits; what is left out is not there.
func TestTranslations(t *testing.T) {
	more := "\n[listing.de]\ntagline = \"" + strings.Repeat("Zünde! ", 40) + "\"\ndescription = \"de.md\"\n"
	p := demoProject(t, func(text string) string { return text + more }, map[string]string{"de.md": "Jede **Laterne** brennt."})
	page := read(t, p, "brackwater")
	if page.Language != "en" || len(page.Others) != 1 || page.Others[0].Language != "de" {
		t.Fatalf("languages: %s and %+v", page.Language, page.Others)
	}
	texts := map[string]string{}
	for _, f := range page.Others[0].Fields {
		texts[f.Name] = f.Text
	}
	if !strings.HasPrefix(texts["tagline"], "Zünde!") || !strings.Contains(texts["about"], "<strong>Laterne</strong>") || texts["how"] != "" {
		t.Errorf("the fields are %q", texts)
	}
	said := ""
	for _, x := range page.Problems {
		said += x.Key + ": " + x.Message + "\n"
	}
	if !strings.Contains(said, "listing.de.tagline: ") {
		t.Errorf("the tagline is too long, and the problems are %s", said)
	}
}
