package cli

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	xterm "golang.org/x/term"

	"havvel/internal/app"
	"havvel/internal/atomicfile"
	"havvel/internal/cli/term"
	"havvel/internal/deliver"
	"havvel/internal/deliver/portal"
	"havvel/internal/fault"
	"havvel/internal/inwords"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

type tryFlags struct {
	against string
	publish bool
	recipes []string
	record  bool
	limit   time.Duration
}

func (a *console) rulesTry() *cobra.Command {
	var f tryFlags
	c := a.new(command{
		use:   "try FILE",
		short: "Walk the recipe of a rulebook of your own, request by request",
		long: "Try packs the game in this folder as a rulebook wants it, and walks the rulebook's recipe against an address: it shows each\n" +
			"request and its answer, with keys masked. On a terminal it waits for Enter before each request. Nothing is written into the\n" +
			"logbook. A simulated portal (havvel standin) is a good place to begin.",
		example: "  havvel rules try our-portal.toml --against http://127.0.0.1:7411\n  havvel rules try our-portal.toml --against " +
			"https://api.brackwater.example --publish",
		args: cobra.ExactArgs(1),
		run:  func(ctx context.Context, args []string) error { return a.runRulesTry(ctx, args[0], f) },
	})
	c.Flags().StringVar(&f.against, "against", "", "`address` of the portal's interface (the rulebook's)")
	c.Flags().BoolVar(&f.publish, "publish", false, "make the version public at the end, when the portal has decided")
	c.Flags().StringSliceVar(&f.recipes, "recipe", nil, "`names` of more recipes to walk after that, such as list,withdraw,back")
	c.Flags().BoolVar(&f.record, "record", false, "keep what the portal answers beside the rulebook, without secrets, for havvel rules test")
	c.Flags().DurationVar(&f.limit, "limit", 2*time.Minute, "with --publish, the longest `time` to wait for that")
	a.withDryRun(c, "say what would be sent where, and send nothing")
	return c
}

func (a *console) runRulesTry(ctx context.Context, file string, f tryFlags) error {
	r, err := findRules(file)
	if err != nil {
		return err
	}
	p, d, err := a.toTry(r, file, f)
	if err != nil {
		return err
	}
	_, b, err := app.Open(ctx, nil, a.entry, app.Exact)
	if err != nil {
		return err
	}
	defer b.Close()
	plan, done, err := app.PlanFor(ctx, p, d, b, p.Game.Version, app.Choices{AcceptErrors: true}, a.screen.Progress())
	if err != nil {
		return err
	}
	defer done()
	st := &stepper{a: a, doc: triedJSON{Requests: []requestJSON{}}}
	defer func() { a.answer(st.doc) }()
	if a.dryRun {
		a.screen.Line(
			"%d requests would go to %s, and one more for each picture after the first",
			len(r.Enter)+len(r.Send)+len(r.Fill)+len(r.Follow),
			d.Address,
		)
		return nil
	}
	archive, err := plan.Write(ctx, app.ArchivePath(p, d, "", p.Game.Version), a.screen.Progress())
	if err != nil {
		return err
	}
	parcel := deliver.Parcel{Version: p.Game.Version, Fingerprint: b.Fingerprint, Archive: archive}
	answer, rec, err := a.tryOn(ctx, p, d, parcel, f, st)
	if err != nil {
		return err
	}
	if f.record {
		if err := a.keepRecording(file, rec); err != nil {
			return err
		}
	}
	st.doc.State, st.doc.Link = answer.State, cmp.Or(answer.Link, answer.Draft)
	if f.publish && deliver.Undecided(answer.State) {
		return app.NotDecided(r.Name, p.Game.Version, answer.State, f.limit).Then("the recipe works up to here; --limit waits longer")
	}
	a.showTried(answer, f.publish)
	a.screen.Next("havvel start --to %s  (adds it to havvel.toml)", file)
	return nil
}

// toTry is the project, and a rulebook as one of its destinations.
func (a *console) toTry(r *rulebook.Rulebook, file string, f tryFlags) (*project.Project, *project.Destination, error) {
	p, err := a.project()
	if err != nil {
		return nil, nil, err
	}
	d, err := p.Trying(r, f.against)
	if err != nil {
		return nil, nil, wrong("havvel rules try", "%w", err)
	}
	if len(r.Send) == 0 {
		return nil, nil, deliver.No(d, deliver.Send)
	}
	for _, name := range f.recipes {
		if len(r.Recipes.Steps(name)) == 0 {
			return nil, nil, wrong("havvel rules try", "there are no [[%s]] steps in %s", name, file)
		}
	}
	return p, d, nil
}

// tryOn sends a parcel by the recipes that are tried.
func (a *console) tryOn(
	ctx context.Context, p *project.Project, d *project.Destination, parcel deliver.Parcel, f tryFlags, st *stepper,
) (*portal.Answer, *deliver.Recorder, error) {
	pages, err := a.deskOf(p).SendablePages(ctx, []*project.Destination{d}, p.Game.Version)
	if err != nil {
		return nil, nil, err
	}
	rec := deliver.Record(st, p.Game, d.Address, parcel, f.publish, f.recipes)
	answer, err := a.courier(p).Try(ctx, d, parcel, pages[d.Name], f.publish, f.recipes, f.limit, rec)
	return answer, rec, err
}

func (a *console) keepRecording(file string, rec *deliver.Recorder) error {
	data, err := json.MarshalIndent(rec.Recording, "", "  ")
	if err != nil {
		return err
	}
	if err := atomicfile.Bytes(recordingOf(file), append(data, '\n')); err != nil {
		return fmt.Errorf("keeping the recording: %w", err)
	}
	a.screen.Line("recorded in %s: %d requests", recordingOf(file), len(rec.Said))
	return nil
}

// showTried says what the portal made of the parcel.
func (a *console) showTried(answer *portal.Answer, published bool) {
	s := a.screen
	if published && answer.State != rulebook.Public {
		s.Line("%s", s.In(term.Careful, "the recipe works up to here; what was not accepted can't be made public"))
	} else {
		s.Line("%s", s.In(term.Good, "the recipe works"))
	}
	s.Line("  state: %s", answer.State)
	for _, r := range answer.Reasons {
		s.Paragraph(term.Plain, "    - ", "      ", inwords.Clean(r))
	}
	for _, link := range []string{answer.Draft, answer.Link} {
		if link != "" {
			s.Line("  look at it: %s", inwords.Clean(link))
		}
	}
}

// recordingOf is where the recording of a rulebook is kept.
func recordingOf(file string) string { return strings.TrimSuffix(file, ".toml") + ".recorded.json" }

func (a *console) rulesTest() *cobra.Command {
	return a.new(command{
		use:   "test [FILE]...",
		short: "Walk recipes against what was recorded, without the portal",
		long: "Test walks the recipes of rulebooks against what havvel rules try --record has kept beside them: all in this folder that " +
			"have a\nrecording, or those that are named. It finds what a change to a rulebook changed.",
		example: "  havvel rules test\n  havvel rules test our-portal.toml",
		args:    cobra.ArbitraryArgs,
		run:     func(ctx context.Context, args []string) error { return a.runRulesTest(ctx, args) },
	})
}

type testedJSON struct {
	Rulebooks []testedRow `json:"rulebooks"`
}

type testedRow struct {
	Rulebook string `json:"rulebook"`
	Same     bool   `json:"same"`
	Why      string `json:"why,omitempty"` // not
}

func (a *console) runRulesTest(ctx context.Context, files []string) error {
	if len(files) == 0 {
		found, err := filepath.Glob("*.recorded.json")
		if err != nil {
			return err
		}
		for _, f := range found {
			files = append(files, strings.TrimSuffix(f, ".recorded.json")+".toml")
		}
	}
	if len(files) == 0 {
		return wrong("havvel rules test", "nothing is recorded here").Then("havvel rules try FILE --record does that")
	}
	doc, failed := testedJSON{Rulebooks: []testedRow{}}, false
	for _, file := range files {
		r, err := findRules(file)
		if err != nil {
			return err
		}
		rec, err := deliver.ReadRecording(recordingOf(file))
		if err != nil {
			return err
		}
		row := testedRow{Rulebook: file, Same: true}
		if err := deliver.Replay(ctx, r, rec); err != nil {
			row.Same, row.Why, failed = false, err.Error(), true
			a.screen.Line("%s  %s", file, a.screen.In(term.Bad, "not as recorded"))
			a.screen.Paragraph(term.Plain, "  ", "  ", inwords.Clean(row.Why))
		} else {
			a.screen.Line("%s  %s", file, a.screen.In(term.Good, "as recorded"))
		}
		doc.Rulebooks = append(doc.Rulebooks, row)
	}
	a.answer(doc)
	if failed {
		return fault.Said
	}
	return nil
}

// stepper shows requests and answers, and on a terminal waits before each request.
type stepper struct {
	a      *console
	doc    triedJSON
	goesOn bool // without waiting
}

type triedJSON struct {
	Requests []requestJSON `json:"requests"`
	State    string        `json:"state"`
	Link     string        `json:"link"`
}

type requestJSON struct {
	Step    string `json:"step"`
	Method  string `json:"method"`
	Address string `json:"address"`
	Status  int    `json:"status"` // 0 when there was no answer
}

// longestShown is how much of a body is shown, in bytes.
const longestShown = 600

func (st *stepper) Asked(step, method, address string, headers map[string]string, body string) {
	s := st.a.screen
	st.doc.Requests = append(st.doc.Requests, requestJSON{Step: step, Method: method, Address: address})
	s.Line("%s  %s %s", s.In(term.Strong, fmt.Sprintf("%d %s", len(st.doc.Requests), step)), method, inwords.Clean(address))
	for _, name := range slices.Sorted(maps.Keys(headers)) {
		s.Line("  %s", s.In(term.Quiet, inwords.Clean(name+": "+headers[name])))
	}
	if body != "" {
		s.Line("  %s", inwords.Clean(short(body)))
	}
	if f, ok := st.a.in.(*os.File); ok && xterm.IsTerminal(int(f.Fd())) && !st.goesOn {
		fmt.Fprint(st.a.err, "  Enter sends it, Ctrl-C stops here ")
		bufio.NewReader(f).ReadString('\n') // whatever is typed
	}
}

func (st *stepper) Answered(r *http.Response, body string) {
	s := st.a.screen
	st.doc.Requests[len(st.doc.Requests)-1].Status = r.StatusCode
	tone := term.Good
	if r.StatusCode >= 400 {
		tone = term.Bad
	}
	s.Line("  %s", s.In(tone, fmt.Sprintf("→ %d %s", r.StatusCode, http.StatusText(r.StatusCode))))
	if body = strings.TrimSpace(body); body != "" {
		s.Line("  %s", inwords.Clean(short(body)))
	}
	s.Line("")
}

func short(text string) string {
	if len(text) > longestShown {
		return strings.ToValidUTF8(text[:longestShown], "") + " …"
	}
	return text
}
