package portal

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"havvel/internal/rulebook/expression"
)

// heard is what a trace hears.
type heard struct{ lines []string }

func (h *heard) Asked(step, method, address string, headers map[string]string, body string) {
	h.lines = append(h.lines, fmt.Sprint(method, " ", address, " ", headers, " ", body))
}

func (h *heard) Answered(r *http.Response, body string) {
	h.lines = append(h.lines, fmt.Sprint(r.StatusCode, " ", body))
}

// TestShown: no secret is shown, however short or in whatever form; what stands beside one is.
func TestShown(t *testing.T) {
	s := host(t, func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, `{"said":"`+r.Header.Get("X-Sign")+`"}`) },
		"[[value]]\nname = \"track\"\nsays = \"it\"\n[[value]]\nname = \"sign\"\nsays = \"it\"\nsecret = true\n"+
			step("follow", "address = \"{address}/{to.track}?v={version}\"\nheaders = { X-Pin = \"{key_secret}\", X-Sign = \"{to.sign}\", "+
				"X-Mac = \"{hmac('sha256', to.sign, 'a')}\" }\nmethod = \"POST\"\njson = { s = \"{to.sign}\", t = \"{to.track}\" }"))
	s.Know("to", map[string]any{"track": "steady", "sign": "nine-lanterns", "nothing": ""})
	s.Conceal("to.sign", "nine-lanterns")
	s.Hide("key_secret", "1234")
	h := &heard{}
	s.Trace = h
	if _, err := s.Run(context.Background(), s.Rules.Follow, 0); err != nil {
		t.Fatal(err)
	}
	said := strings.Join(h.lines, "\n")
	mac, err := expression.New(`string(hex(hmac("sha256", "nine-lanterns", "a")))`).Value(nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, bad := range []string{"nine-lanterns", "1234", fmt.Sprint(mac)} {
		if strings.Contains(said, bad) {
			t.Errorf("%q is shown in\n%s", bad, said)
		}
	}
	if !strings.Contains(said, "/steady?(query)") || !strings.Contains(said, `"t":"steady"`) || !strings.Contains(said, "X-Pin:(key)") {
		t.Errorf("too little is shown:\n%s", said)
	}
	if s.Secret("to.track") || !s.Secret("to.sign") {
		t.Error("the wrong one is a secret")
	}
}
