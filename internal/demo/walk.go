package demo

// A Stop is one station of the full example.
type Stop struct {
	Why     string             // one line, said before
	Before  func(string) error // what the developer does meanwhile in the project's folder; may be nil
	Command []string           // of havvel, as the user would type it
	Answer  int                // the exit code that it must end with
}

// Walk is the full example: from an export to a public link, and a second version under the same link.
func Walk() []Stop {
	return []Stop{
		{Why: "What did the engine write?", Command: []string{"look"}},
		{Why: "An export of last week, with three classic mistakes. Would the portal take it?", Command: []string{"check", FlawedExport}, Answer: 1},
		{Why: "And the export of today?", Command: []string{"check"}},
		{Why: "Which calls does the portal want to hear, and who makes them?", Command: []string{"hooks"}},
		{Why: "Write the archive that the portal wants. The export stays as it is.", Command: []string{"pack"}},
		{Why: "Upload it. The check runs first, and an export with errors is not sent.", Command: []string{"send"}},
		{Why: "The portal verifies what it was sent. Wait for what it says.", Command: []string{"where", "--wait"}},
		{Why: "The draft is good: make it public.", Command: []string{"publish"}},
		{Why: "The game was changed, exported again, and its version raised in havvel.toml. What is new in it?", Before: WriteSecond, Command: []string{"compare"}},
		{Why: "Send it, and wait.", Command: []string{"send", "--wait"}},
		{Why: "Players find the new version under the same link.", Command: []string{"publish"}},
		{Why: "What is where now?", Command: []string{"where"}},
	}
}
