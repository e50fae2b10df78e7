package demo

import (
	"fmt"
	"path/filepath"
	"strings"

	"havvel/internal/atomicfile"
	"havvel/internal/demo/testers"
)

// A Stop is one station of the full example.
type Stop struct {
	Why     string             // one line, said before
	Before  func(string) error // what the developer does meanwhile in the project's folder; may be nil
	Command []string           // of havvel, as the user would type it
	Answer  int                // the exit code that it must end with
	Env     []string           // more of its environment
}

// Walk is the full example: from an export to a public link, and a second version under the same link.
func Walk() []Stop {
	return []Stop{
		{Why: "What did the engine write?", Command: []string{"look"}},
		{
			Why:     "Last week's export, with three classic mistakes. Would the portal accept it?",
			Command: []string{"check", "--to", "brackwater", FlawedExport},
			Answer:  1,
		},
		{Why: "And today's export?", Command: []string{"check", "--to", "brackwater"}},
		{Why: "Which SDK calls does the portal want, and who makes them?", Command: []string{"hooks", "--to", "brackwater"}},
		{Why: "Write the archive that the portal wants. The export stays as it is.", Command: []string{"pack", "--to", "brackwater"}},
		{Why: "The game's page on three portals, from texts and pictures made once. What would it say?", Command: []string{"listing"}},
		{
			Why:     "Upload it, and fill in the page. The check runs first, and an export with errors is not sent.",
			Command: []string{"send", "--to", "brackwater"},
		},
		{Why: "The portal verifies the version. Wait for its answer.", Command: []string{"where", "--to", "brackwater", "--wait"}},
		{Why: "The draft is good: make it public.", Command: []string{"publish", "--to", "brackwater"}},
		{
			Why:     "The game was changed, exported again, and its version raised in havvel.toml. What is new in it?",
			Before:  WriteSecond,
			Command: []string{"compare"},
		},
		{Why: "Send it, and wait.", Command: []string{"send", "--to", "brackwater", "--wait"}},
		{Why: "Players find the new version under the same link.", Command: []string{"publish", "--to", "brackwater"}},
		{Why: "What is where now?", Command: []string{"where"}},
	}
}

// The files of the round's example, in the project.
const (
	QuestionFile = "page/questions.toml"
	ReportFile   = "round.html"
)

// RoundBegun is the first part of the example of a round: a version goes to a playtest host, and to testers.
func RoundBegun() []Stop {
	return []Stop{
		{
			Why:     "The Shed, a playtest host of your own, runs on this machine. A version goes there like anywhere.",
			Command: []string{"send", "--to", "shed"},
		},
		{
			Why:     "Give it to testers for three days, and ask them three questions. Whoever agrees adds a clip.",
			Before:  writeQuestions,
			Command: []string{"round", "open", "--to", "shed", "--until", "3d", "--questions", QuestionFile, "--record"},
		},
	}
}

// RoundEnded is its second part: what came back.
func RoundEnded() []Stop {
	return []Stop{
		{
			Why:     "What came back? Nobody but programs played, so that has to be asked for.",
			Command: []string{"round", "report", "--to", "shed", "--simulated", "--page", ReportFile},
		},
	}
}

func writeQuestions(folder string) error {
	var b strings.Builder
	for _, q := range testers.Questions {
		fmt.Fprintf(&b, "[[question]]\nask  = %q\nkind = %q\n", q.Ask, q.Kind)
		if len(q.Choices) > 0 {
			fmt.Fprintf(&b, "choices = [\"%s\"]\n", strings.Join(q.Choices, "\", \""))
		}
		b.WriteString("\n")
	}
	return atomicfile.Bytes(filepath.Join(folder, filepath.FromSlash(QuestionFile)), []byte(b.String()))
}
