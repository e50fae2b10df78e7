package pack

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/tdewolff/parse/v2/js"
)

func TestRewritten(t *testing.T) {
	holds := func(name string) bool { return name == "js/a.js" || name == "b c.js" || name == "js/d.json" }
	for from, to := range map[string]string{
		`import { a } from "./a.js";`:                   `import { a } from "held:/js/a.js";`,
		`import"./a.js";`:                               `import"held:/js/a.js";`,
		`export * from './a.js'`:                        `export * from 'held:/js/a.js'`,
		`import b, * as c from "../b%20c.js?v=1"`:       `import b, * as c from "held:/b%20c.js?v=1"`,
		`import d from "/js/d.json" with {type:"json"}`: `import d from "held:/js/d.json" with {type:"json"}`,
		`import three from "three"`:                     `import three from "three"`,
		`import x from "./gone.js"`:                     `import x from "./gone.js"`,
		`const m = await import(name)`:                  `const m = await havvelHeld.from("js/x.js")(name)`,
		`import/* now */("./a.js", o)`:                  `havvelHeld.from("js/x.js")/* now */("./a.js", o)`,
		`new URL("p.png", import.meta.url)`:             `new URL("p.png", havvelHeld.meta("js/x.js").url)`,
		`"import('./a.js')" + o.import("./a.js")`:       `"import('./a.js')" + o.import("./a.js")`,
		"`${import(`./a.js`)} import(x)`":               "`${havvelHeld.from(\"js/x.js\")(`./a.js`)} import(x)`",
		`if (x) /import("y)/.test(z); import(q)`:        `if (x) /import("y)/.test(z); havvelHeld.from("js/x.js")(q)`,
		`a = b / c; import(q); d = e / "f"`:             `a = b / c; havvelHeld.from("js/x.js")(q); d = e / "f"`,
		`f = {a: 1} / 2; import(q); g = 1 / 2`:          `f = {a: 1} / 2; havvelHeld.from("js/x.js")(q); g = 1 / 2`,
		`{ a() } /import("x)/.exec(y); import(q)`:       `{ a() } /import("x)/.exec(y); havvelHeld.from("js/x.js")(q)`,
		`Array.from("./a.js")`:                          `Array.from("./a.js")`,
		`// import("./a.js")` + "\nimport(q)":           `// import("./a.js")` + "\n" + `havvelHeld.from("js/x.js")(q)`,
	} {
		got, err := rewritten([]byte(from), "js/x.js", holds, func(string, string) {})
		if err != nil || string(got) != to {
			t.Errorf("%s\n becomes %s (%v)\n want    %s", from, got, err, to)
		}
	}
}

// TestRewrittenWhole: what libraries are made of can be parsed after it, too (CORPUS names a folder of exports).
func TestRewrittenWhole(t *testing.T) {
	files, err := filepath.Glob(filepath.Join(os.Getenv("CORPUS"), "exports", "*", "*", "*.js"))
	if os.Getenv("CORPUS") == "" || err != nil || len(files) == 0 {
		t.Skip("skipped: there is no corpus (make corpus)")
	}
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := js.Parse(inputOf(data), js.Options{}); err != nil {
			continue
		}
		got, err := rewritten(data, "js/x.js", func(string) bool { return true }, func(string, string) {})
		if err == nil {
			_, err = js.Parse(inputOf(got), js.Options{})
		}
		if err != nil {
			t.Errorf("%s: %v", file, err)
		}
	}
}
