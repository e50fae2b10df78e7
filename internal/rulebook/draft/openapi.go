package draft

import (
	"cmp"
	"fmt"
	"net/http"
	"path"
	"regexp"
	"slices"
	"strings"

	"havvel/internal/fault"
	"havvel/internal/inwords"
	"havvel/internal/rulebook"
)

// A Found request of a description is used for something.
type Found struct {
	For    string `json:"for"` // a recipe, such as "send"
	Method string `json:"method"`
	Path   string `json:"path"`
}

// FromOpenAPI begins a rulebook by an OpenAPI description (3.0 or 3.1, as JSON or YAML), and tells which of its requests are used for
// what. Answers that are given override what it says. An error tells what an upload needs and the description doesn't have.
func FromOpenAPI(data []byte, a Answers) (text []byte, found []Found, err error) {
	doc, err := read(data)
	if err != nil {
		return nil, nil, fault.New(fault.No, "it is no OpenAPI description that can be read: %v", err)
	}
	if version := doc.at("openapi").text(); !strings.HasPrefix(version, "3.") {
		if version = cmp.Or(version, doc.at("swagger").text()); version == "" {
			return nil, nil, fault.New(fault.No, "it is no OpenAPI description: it has no openapi that says which version it is")
		}
		return nil, nil, fault.New(fault.No, "it is a description by OpenAPI %s, and havvel reads those by OpenAPI 3", version).
			Then("convert it to OpenAPI 3, or leave --from out: havvel rules new then asks how uploads go")
	}
	r := &rules{Answers: a, About: "What kind of portal it is, in one sentence."}
	r.described(doc)
	d := &description{doc: doc, rules: r}
	if err := d.steps(); err != nil {
		return nil, nil, err
	}
	if text, err = r.text(); err != nil {
		return nil, nil, err
	}
	return text, d.found, nil
}

// described takes over what a description says of the portal as a whole.
func (r *rules) described(doc node) {
	if r.Name == "" {
		r.Name = inwords.Clean(doc.at("info", "title").text())
	}
	if first, _, _ := strings.Cut(strings.TrimSpace(doc.at("info", "description").text()), "\n"); first != "" {
		r.About = inwords.Clean(first)
	}
	if servers := doc.at("servers").list(); r.Address == "" && len(servers) > 0 {
		r.Address = server(servers[0])
	}
	if r.LogIn == "" {
		r.secured(doc)
		return
	}
	r.logsIn()
}

// server is where one is, its variables as they are by default.
func server(n node) string {
	address := n.at("url").text()
	variables := n.at("variables")
	for _, name := range variables.keys() {
		address = strings.ReplaceAll(address, "{"+name+"}", variables.at(name, "default").text())
	}
	return strings.TrimSuffix(address, "/")
}

// secured takes over the first way to log in that a rulebook has, too.
func (r *rules) secured(doc node) {
	all := doc.at("components", "securitySchemes")
	var names []string
	for _, need := range doc.at("security").list() {
		names = append(names, need.keys()...)
	}
	for _, name := range append(names, all.keys()...) {
		if r.by(all.at(name)) {
			return
		}
	}
	r.LogIn = "bearer"
	r.Notes = append(r.Notes, "The description names no way to log in that havvel knows: [headers] is a guess.")
	r.logsIn()
}

// by logs in as a scheme says, and reports whether it can.
func (r *rules) by(s node) bool {
	kind, scheme := s.at("type").text(), strings.ToLower(s.at("scheme").text())
	token := s.at("flows", "clientCredentials", "tokenUrl").text()
	switch {
	case kind == "http" && slices.Contains([]string{"bearer", "basic", "digest"}, scheme):
		r.LogIn = scheme
		r.logsIn()
	case kind == "apiKey" && s.at("in").text() == "header":
		r.LogIn = "header"
		name, value := s.at("name").text(), quoted("{key}")
		if strings.EqualFold(name, "Authorization") {
			value = quoted("Bearer {key}")
		}
		r.Headers = append(r.Headers, pair{bare(name), value})
	case kind == "oauth2" && token != "":
		r.LogIn = "client-credentials"
		r.logsIn()
		r.Login[1].Value = quoted(r.absolute(token))
	default:
		return false
	}
	return true
}

// absolute is an address that may be relative to the interface's.
func (r *rules) absolute(address string) string {
	if strings.Contains(address, "://") {
		return address
	}
	return "{address}/" + strings.TrimPrefix(address, "/")
}

// A description is one that steps are made from.
type description struct {
	doc    node
	rules  *rules
	found  []Found
	item   string   // the path of one version, such as /games/{game}/builds/{build}; "" while there is none
	idName string   // what stands in braces there
	states []string // the portal's words
}

// An operation is one request that can be made.
type operation struct {
	method, path string
	node
	params []node
}

func (o operation) id() string      { return o.at("operationId").text() }
func (o operation) summary() string { return inwords.Clean(o.at("summary").text()) }

func (d *description) operations() []operation {
	var list []operation
	paths := d.doc.at("paths")
	for _, p := range paths.keys() {
		item := paths.at(p)
		for _, method := range []string{"get", "post", "put", "patch", "delete", "head"} {
			if o := item.at(method); o.value != nil {
				list = append(list, operation{strings.ToUpper(method), p, o, slices.Concat(item.at("parameters").list(), o.at("parameters").list())})
			}
		}
	}
	return list
}

// takesFile says how a request takes a file: as its body, or as a part of that name.
func (o operation) takesFile() (body bool, part string) {
	content := o.at("requestBody", "content")
	for _, name := range content.keys() {
		kind, _, _ := strings.Cut(name, ";")
		switch {
		case kind == "multipart/form-data":
			for _, p := range fields(content.at(name, "schema")) {
				if binary(p.schema) {
					part = p.name
				}
			}
		case kind == "application/octet-stream" || strings.HasPrefix(kind, "application/") && strings.Contains(kind, "zip") || kind == "*/*":
			body = true
		}
	}
	return body, part
}

func binary(s node) bool {
	return s.at("format").text() == "binary" || s.at("contentMediaType").text() != "" && s.is("string")
}

// score tells how likely a request is the upload of a build.
var uploadWords = regexp.MustCompile(`(?i)upload|build|version|release|archive|asset|file|zip`)
var otherWords = regexp.MustCompile(`(?i)image|picture|icon|cover|avatar|screenshot|thumbnail|sarif|log|render|markdown`)

func (o operation) score() int {
	n := 0
	if body, part := o.takesFile(); !body && part == "" {
		return 0
	}
	words := o.path + " " + o.id()
	n += 1 + 3*len(uploadWords.FindAllString(words, 3))
	if otherWords.MatchString(words) {
		n -= 8
	}
	if o.method != http.MethodPost && o.method != http.MethodPut && o.method != http.MethodPatch {
		return 0
	}
	return n
}

var (
	inBraces     = regexp.MustCompile(`\{([^{}]+)\}`)
	publishWords = regexp.MustCompile(`(?i)^(publish|publication|release|activate|live|public|go-live|promote)$`)
	removeWords  = regexp.MustCompile(`(?i)^(unpublish|withdraw|takedown|deactivate|hide|unlist)$`)
	versionWords = regexp.MustCompile(`(?i)^(version|tag|tag_name|tagname|version_name|version_number|label|semver)$`)
	stateWords   = regexp.MustCompile(`(?i)^(state|status|phase)$`)
	linkWords    = regexp.MustCompile(`(?i)^(page|link|page_url|public_url|url|html_url|play_url|permalink)$`)
	idWords      = regexp.MustCompile(`(?i)^(id|uuid|key|.*_id)$`)
)

// steps finds what an upload needs.
func (d *description) steps() error {
	all := d.operations()
	best := operation{}
	for _, o := range all {
		if best.path == "" && o.score() > 0 || best.path != "" && o.score() > best.score() {
			best = o
		}
	}
	if best.path == "" {
		return fault.New(fault.No, "the description has no request that takes a file (application/octet-stream, application/zip, or "+
			"multipart/form-data with a part of format binary)").
			Then("havvel rules new without --from asks how uploads go")
	}
	d.itemOf(best, all)
	collection := path.Dir(d.item)
	for _, o := range all {
		if o.path == collection && o.method == http.MethodPost && o.path != best.path {
			d.add("send", "A version is made first. POST is made again only with again = true.", o)
		}
	}
	d.add("send", best.summary(), best)
	if resumable := d.resumed(best, all); resumable {
		d.rules.Notes = append(d.rules.Notes, "There is HEAD and PATCH beside the upload: resumable = true may be right for it.")
	}
	for _, o := range all {
		d.further(o, collection)
	}
	slices.SortStableFunc(d.rules.Steps, func(x, y step) int {
		return slices.Index(order, x.Recipe) - slices.Index(order, y.Recipe)
	})
	d.end()
	return nil
}

// further adds what is done with a version after its upload, where an operation does it.
func (d *description) further(o operation, collection string) {
	last, reads := path.Base(o.path), o.method == http.MethodGet
	switch {
	case reads && o.path == collection:
		d.addFind(o)
	case reads && o.path == d.item:
		d.addFollow(o)
	case reads || path.Dir(o.path) != d.item:
	case publishWords.MatchString(last) && o.method != http.MethodDelete:
		d.add("publish", o.summary(), o)
	case removeWords.MatchString(last):
		d.add("withdraw", o.summary(), o)
	}
}

var order = []string{"send", "find", "follow", "publish", "withdraw"}

// itemOf finds the path of one version: that of the upload up to its last name in braces that isn't the file's, or what a POST at the
// upload's own path makes.
func (d *description) itemOf(upload operation, all []operation) {
	m := inBraces.FindAllStringSubmatchIndex(upload.path, -1)
	if len(m) > 0 && upload.method != http.MethodPost || len(m) > 0 && strings.Count(upload.path[m[len(m)-1][1]:], "/") == 1 &&
		slices.ContainsFunc(all, func(o operation) bool {
			return o.path == path.Dir(upload.path[:m[len(m)-1][1]]) && o.method == http.MethodPost
		}) {
		at := m[len(m)-1]
		d.item, d.idName = upload.path[:at[1]], upload.path[at[2]:at[3]]
		return
	}
	d.item, d.idName = upload.path+"/{id}", "id"
	for _, o := range all {
		if path.Dir(o.path) == upload.path && inBraces.MatchString(path.Base(o.path)) {
			d.item, d.idName = o.path, strings.Trim(path.Base(o.path), "{}")
		}
	}
}

// resumed reports whether the description has the requests of a resumable upload.
func (d *description) resumed(upload operation, all []operation) bool {
	return slices.ContainsFunc(all, func(o operation) bool {
		return o.method == http.MethodHead && (o.path == upload.path || path.Dir(o.path) == upload.path)
	})
}

// end makes the lists that hold for all steps.
func (d *description) end() {
	r := d.rules
	if len(r.Words) == 0 {
		r.Words = []string{"/error"}
		r.Notes = append(r.Notes, "The description doesn't say where its reasons are: words is a guess.")
	}
	r.Words = slices.Compact(slices.Sorted(slices.Values(r.Words)))
	r.KeyBad = []int{http.StatusUnauthorized}
	if !slices.ContainsFunc(r.Steps, func(s step) bool { return s.Recipe == "publish" }) {
		r.Notes = append(r.Notes, "No request was found that makes a version public: add [[publish]] where there is one.")
	}
	if !slices.ContainsFunc(r.Steps, func(s step) bool { return s.Recipe == "follow" }) {
		r.Notes = append(r.Notes, "No request was found that tells a version's state: add [[follow]] where there is one.")
	}
	if len(d.states) > 0 {
		r.Notes = append(r.Notes, "What the portal's words for states mean was guessed by their sound: look at each.")
	}
	for _, s := range d.states {
		r.States = append(r.States, state{bare(s), stateFor(s)})
	}
}

// stateFor guesses what a portal means by a word: that it still works on it, where nothing fits.
func stateFor(word string) (ours string) {
	for _, x := range []struct {
		words *regexp.Regexp
		ours  string
	}{
		{regexp.MustCompile(`(?i)review|moderat`), rulebook.InReview},
		{regexp.MustCompile(`(?i)schedul|planned`), rulebook.Scheduled},
		{regexp.MustCompile(`(?i)unpublish|withdrawn|removed|deleted|hidden|unlisted|taken`), rulebook.Withdrawn},
		{regexp.MustCompile(`(?i)replaced|archived|superseded|old`), rulebook.Replaced},
		{regexp.MustCompile(`(?i)reject|refus|fail|error|invalid|bad|broken`), rulebook.Refused},
		{regexp.MustCompile(`(?i)live|public|published|active|released`), rulebook.Public},
		{regexp.MustCompile(`(?i)draft|ready|uploaded|complete|done|ok|valid$|accepted`), rulebook.Draft},
		{regexp.MustCompile(`(?i)process|pending|wait|queue|validat|verif|check|new|open|starter|uploading|created|running`), rulebook.Verifying},
	} {
		if x.words.MatchString(word) {
			return x.ours
		}
	}
	return rulebook.Verifying
}

// at is a path as an address of a rulebook.
func (d *description) at(o operation, recipe string) string {
	out := inBraces.ReplaceAllStringFunc(o.path, func(in string) string {
		name := strings.Trim(in, "{}")
		if o.path == d.item || strings.HasPrefix(o.path, d.item+"/") {
			if name == d.idName && !versionWords.MatchString(name) {
				return "{id}"
			}
		}
		return "{" + d.value(name, d.param(o, name)) + "}"
	})
	address := "{address}" + out
	if own := o.at("servers").list(); len(own) > 0 {
		address = server(own[0]) + out
	}
	sign := "?"
	for _, p := range o.params {
		if p.at("in").text() != "query" || p.at("required").text() != "true" {
			continue
		}
		name := p.at("name").text()
		value := "archive.name"
		if raw, _ := o.takesFile(); !raw || name != "name" {
			value = d.value(name, p)
		}
		address += fmt.Sprintf("%s%s={url(%s)}", sign, name, value)
		sign = "&"
	}
	return address
}

func (d *description) param(o operation, name string) node {
	for _, p := range o.params {
		if p.at("name").text() == name {
			return p
		}
	}
	return node{}
}
