package rulebook

import (
	"os"
	"strings"
	"testing"

	"havvel/internal/fault"
)

func TestShipped(t *testing.T) {
	for _, name := range Names() {
		if r, err := Find(name, "."); err != nil || r.About == "" || r.Key.Where == "" || len(r.Views) == 0 || r.Archive.Limit == 0 {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// said is all that is said of an error.
func said(err error) (words string) {
	for _, f := range fault.All(err) {
		words += f.Error() + "\n" + f.Next + "\n"
	}
	return words
}

// TestMistakes: what someone who writes a rulebook gets wrong is said in words that help.
func TestMistakes(t *testing.T) {
	good, err := os.ReadFile("ship/brackwater.toml")
	if err != nil {
		t.Fatal(err)
	}
	for old, c := range map[string]struct{ new, says string }{
		`"havvel-rulebook/2"`:        {`"havvel-rulebook/9"`, `this havvel reads "havvel-rulebook/2"`},
		`"80 MB"`:                    {`"80 megs"`, `write it like "80 MB"`},
		`"head-start"`:               {`"top"`, "it can be head-start"},
		`hand_over  = "zip"`:         {`hand_over = "rar"`, "it can be zip"},
		`["gzip"]`:                   {`["zstd"]`, "it can be gzip, br"},
		`live     = "public"`:        {`live = "online"`, `states.live is "online"`},
		`method  = "PUT"`:            {`method = "SEND"`, `send.method is "SEND"`},
		`{ version = "{version}",`:   {`{ version = "{versoin}",`, "did you mean {version}?"},
		`address   = "{upload}"`:     {`address = "{state}"`, "{state} is not known there"}, // taken later
		`file      = "archive"`:      {"file = \"archive\"\njson = { a = 1 }", "2 bodies"},
		`keep    = ["id"]`:           {`keep = ["ticket"]`, `keep has "ticket"`},
		"expect    = [201]\n":        {"", "send.expect is missing"},
		`take    = { id = "/id",`:    {`take = { id = "id",`, "is no place in an answer"},
		`take    = { id = "/id", `:   {`take = { id = 7, `, "is a number; it must be a text"},
		`until = 'state in ["ready"`: {`until = 'stat in ["ready"`, "did you mean {state}?"},
		`every = "400ms"`:            {`every = "often"`, `write it like "30s"`},
		`size = [960, 540]`:          {`size = [960, 0]`, "view.size needs a width and a height"},
	} {
		if !strings.Contains(string(good), old) {
			t.Errorf("the test is stale: %s", old)
			continue
		}
		_, err := Parse("brackwater.toml", []byte(strings.Replace(string(good), old, c.new, 1)))
		f := fault.Of(err)
		if err == nil || f.Kind != fault.Usage || f.At.Line < 1 || !strings.Contains(said(err), c.says) {
			t.Errorf("%s: %v", c.new, err)
		}
	}
}

func FuzzParse(f *testing.F) {
	good, err := os.ReadFile("ship/brackwater.toml")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(good)
	f.Add([]byte("[[send]]\nstep = 1\n[archive.x.y]\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if _, err := Parse("x", data); err != nil && fault.Of(err).At.Line < 1 {
			t.Fatalf("%T %v", err, err)
		}
	})
}

// TestHanded: a step carries the files of its own form of hand-over only.
func TestHanded(t *testing.T) {
	text := "format = \"havvel-rulebook/2\"\nname = \"Osierfold\"\n[archive]\nhand_over = \"entry-apart\"\n[[send]]\nstep = " +
		"\"page\"\nmethod = \"PUT\"\naddress = \"{address}/x\"\nexpect = [200]\nfile = \"entry\"\n"
	if _, err := Parse("own.toml", []byte(text)); err != nil {
		t.Error(err)
	}
	for old, c := range map[string][2]string{`"entry-apart"`: {`"zip"`, "is not known there"}, `file = "entry"`: {`file = "archive"`, "must give a file"}} {
		if _, err := Parse("own.toml", []byte(strings.Replace(text, old, c[0], 1))); err == nil || !strings.Contains(err.Error(), c[1]) {
			t.Errorf("%s: %v", c[0], err)
		}
	}
}

// TestHooks: mistakes in what a portal wants to hear are said with the hook and the call.
func TestHooks(t *testing.T) {
	good := "format = \"havvel-rulebook/2\"\nname = \"Osierfold\"\n[archive]\nhand_over = \"zip\"\n[[hook]]\nname = \"SDK\"\nscript = " +
		"\"/sdk.js\"\nplace = \"head-start\"\nattributes = { async = \"\" }\n[hook.start]\ncall = \"Osier.enter\"\ngives = " +
		"true\n[[hook.call]]\ncall = \"started.ready\"\nevent = \"loading-done\"\nanswers = \"promise\"\nafter = [\"loading-begun\"]\n"
	r, err := Parse("own.toml", []byte(good))
	if err != nil {
		t.Fatal(err)
	}
	if h := r.Hooks[0]; len(h.At("loading-done")) != 1 || len(h.At("save")) != 0 || len(h.Wanted(true)) != 0 || len(h.Wanted(false)) != 1 {
		t.Errorf("%+v", h)
	}
	for old, c := range map[string]struct{ new, says string }{
		`"loading-done"`:  {`"loaded"`, `hook.call.event is "loaded"`},
		`"loading-begun"`: {`"begun"`, `hook.call.after is "begun"`},
		`"promise"`:       {`"later"`, `answers is "later"; it can be at-once, promise`},
		`gives = true`:    {`gives = false`, "no start call with gives = true"},
		`"started.ready"`: {`"ready"`, "dotted name"},
		`"Osier.enter"`:   {`"alert(1)"`, "dotted name"},
		`async = ""`:      {`src = "x"`, "hook.attributes.src can't be an attribute"},
		`"head-start"`:    {`"start"`, "place is"},
	} {
		if _, err := Parse("own.toml", []byte(strings.Replace(good, old, c.new, 1))); !strings.Contains(said(err), c.says) {
			t.Errorf("%s: %v", c.new, err)
		}
	}
}
