package round

import (
	"strings"
	"testing"
)

// TestChoose: the first language that a browser asks for and the round has, with the country where there are several.
func TestChoose(t *testing.T) {
	list := []Translation{{Language: "de"}, {Language: "pt-PT"}, {Language: "pt-BR"}, {Language: "ar", Texts: map[string]string{"send": "أرسل"}}}
	for asked, want := range map[string]string{
		"": "en", "de-AT,de;q=0.9": "de", "fr, pt-BR;q=0.8, de;q=0.7": "pt-BR", "pt": "pt-PT", "en-GB,en,de;q=0.5": "en", "zz": "en", "AR-eg": "ar", ";;,": "en",
	} {
		if got := Choose(list, asked); got.Language != want {
			t.Errorf("%q: %s, want %s", asked, got.Language, want)
		}
	}
	ar := Choose(list, "ar")
	if say := ar.Say(strings.NewReplacer("{day}", "2026-12-31")); say["send"] != "أرسل" || !strings.Contains(say["until"], "2026-12-31") || ar.Direction() != "rtl" {
		t.Errorf("%s %v", ar.Direction(), say["until"])
	}
	for _, bad := range []Translation{{}, {Language: "d/e"}, {Language: "de", Texts: map[string]string{"sned": "x"}}, {Language: "de",
		Texts: map[string]string{"send": strings.Repeat("x", mostTextLength+1)}}} {
		if bad.Verify() == nil {
			t.Errorf("%.60v is taken", bad)
		}
	}
}
