package rulebook

import (
	"strings"
	"testing"

	"havvel/internal/fault"
)

// whole is a rulebook without mistakes.
const whole = `format  = "havvel-rulebook/2"
name    = "Reedhouse"
address = "https://api.reedhouse.example"
keep    = ["id"]

[archive]
hand_over = "zip"

[key]
where = "your page there"

[refusal]
words = ["/error"]

[states]
busy = "verifying"
fine = "draft"
live = "public"

[[picture]]
name    = "cover"
role    = "cover"
size    = [8, 8]
formats = ["png"]

[[enter]]
step    = "log in"
method  = "POST"
address = "{address}/login"
form    = { key = "{key}" }
expect  = [200]
take    = { pass = "/pass" }

[[send]]
step    = "make"
method  = "POST"
address = "{address}/versions"
headers = { Authorization = "Bearer {key}" }
json    = { version = "{version}" }
expect  = [201]
take    = { id = "/id" }

[[send]]
step    = "upload"
method  = "PUT"
address = "{address}/versions/{id}/zip"
headers = { Content-Type = "application/zip" }
file    = "archive"
expect  = [200]

[[follow]]
step    = "ask"
method  = "GET"
address = "{address}/versions/{id}"
expect  = [200]
take    = { state = "/state" }
repeat  = { until = 'state in ["fine", "live"]', every = "1s", limit = "1m" }
`

// TestEveryMistake: what people get wrong in a rulebook is found before anything is sent, with line and column.
func TestEveryMistake(t *testing.T) {
	if _, err := Parse("own.toml", []byte(whole)); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct{ old, new, says string }{
		"no scheme":             {`"https://api.reedhouse.example"`, `"api.reedhouse.example"`, "no whole address"},
		"relative":              {`"{address}/versions"`, `"/versions"`, "no whole address"},
		"plain HTTP elsewhere":  {`"https://api.`, `"http://api.`, "plain HTTP"},
		"a type of pictures":    {`["png"]`, `["bmp"]`, "it can be png"},
		"camel case":            {`{id}/zip`, `{versionId}/zip`, "{versionId} is not known there"},
		"a value misspelt":      {`"{version}"`, `"{verison}"`, "did you mean {version}?"},
		"a member misspelt":     {`"{version}"`, `"{archive.sha265}"`, "sha265"},
		"a pointer with dots":   {`id = "/id"`, `id = "/version.id"`, `"/version/id"`},
		"no place":              {`id = "/id"`, `id = "id"`, "is no place in an answer"},
		"a bad JSONPath":        {`id = "/id"`, `id = "$..["`, "no JSONPath"},
		"a step twice":          {`"upload"`, `"make"`, "and so is another step's"},
		"a step without a name": {"step    = \"upload\"\n", "", "send.step is missing"},
		"expect missing":        {"expect  = [201]\n", "", "expect is missing"},
		"expect a text":         {"expect  = [201]", `expect  = "201"`, "must be a list"},
		"a field from a text":   {"[refusal]", "[[field]]\nname = \"title\"\nform = \"plain\"\nfrom = \"title\"\n\n[refusal]", "must be a list"},
		"expect silly":          {"expect  = [201]", "expect  = [600]", "from 200 to 599"},
		"a redirect as yes":     {"expect  = [201]", "expect  = [303]", "is no yes"},
		"a file with GET":       {`"PUT"`, `"GET"`, "carries no body"},
		"a newer format":        {"havvel-rulebook/2", "havvel-rulebook/3", "a newer havvel"},
		"an older format":       {"havvel-rulebook/2", "havvel-rulebook/1", "From version 1"},
		"a break in a header":   {`"Bearer {key}"`, `"Bearer\n{key}"`, "line break"},
		"a space in a header":   {`Authorization =`, `"X Key" =`, "no name of a header field"},
		"a small method":        {`"PUT"`, `"put"`, `did you mean "PUT"?`},
		"nothing sent":          {`file    = "archive"`, `json    = {}`, "no step sends the archive"},
		"no key":                {"[key]\nwhere = \"your page there\"\n", "", "where a developer finds it"},
		"a log-in without end": {"take    = { pass = \"/pass\" }",
			"take    = { pass = \"/pass\" }\nrepeat = { until = \"version == '1'\", every = \"1s\", limit = \"1m\" }", "can't end"},
		"no limit":               {`, limit = "1m" }`, ` }`, "needs until, every and limit"},
		"a secret that is kept":  {`keep    = ["id"]`, `keep    = ["pass"]`, `has "pass"`},
		"a token that is kept":   {"keep    = [\"id\"]", `keep    = ["token"]`, `has "token"`},
		"a hidden value":         {`take    = { id = "/id" }`, `take    = { id = "/id", version = "/v" }`, "would hide {version}"},
		"a state of its own":     {`"draft"`, `"done"`, `states.fine is "done"`},
		"no TOML":                {"[refusal]", "[refusal", "not TOML"},
		"two bodies":             {`json    = { version = "{version}" }`, "json = {}\nform = {}", "2 bodies"},
		"a key misspelt":         {"headers = { Auth", "header = { Auth", `did you mean "headers"?`},
		"a recipe misspelt":      {"[[follow]]", "[[folow]]", `did you mean "follow"?`},
		"an unknown word":        {`["fine", "live"]`, `["fine", "lvie"]`, `did you mean "live"?`},
		"no word that ends":      {`["fine", "live"]`, `["busy"]`, "has not decided yet"},
		"a file of another way":  {`file    = "archive"`, `file    = "entry"`, "{entry} is not known there"},
		"never made":             {`file    = "archive"`, "file    = \"archive\"\nwhen = \"1 > 2\"", "is never true"},
		"a secret in an address": {`"{address}/versions/{id}"`, `"{address}/versions/{id}?key={key}"`, "a secret"},
		"no yes or no":           {`file    = "archive"`, "file    = \"archive\"\nyes = \"status\"", "must give true or false"},
		"an open brace":          {`"{version}"`, `"{version"`, "not closed"},
		"a type misspelt":        {`"application/zip"`, `"zip"`, "no content type"},
	} {
		t.Run(name, func(t *testing.T) {
			if !strings.Contains(whole, c.old) {
				t.Fatalf("the test is stale: %s", c.old)
			}
			_, err := Parse("own.toml", []byte(strings.Replace(whole, c.old, c.new, 1)))
			if err == nil || !strings.Contains(said(err), c.says) {
				t.Fatalf("it says %q, not %q", said(err), c.says)
			}
			all := fault.All(err)
			if strings.HasSuffix(name, "a text") && len(all) != 1 {
				t.Errorf("one mistake is reported %d times: %q", len(all), said(err))
			}
			for _, f := range all {
				if f.At.Line < 1 || f.At.Column < 1 {
					t.Errorf("no place: %v", f)
				}
			}
		})
	}
}
