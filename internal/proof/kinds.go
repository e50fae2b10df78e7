package proof

import (
	"havvel/internal/check"
	"havvel/internal/finding"
)

// Kinds lists what a proof can find, as check lists its checks.
func Kinds() []*check.Check {
	of := func(id, title, text, before, after string) *check.Check {
		return &check.Check{ID: id, Level: finding.Error, Title: title, Text: text, Before: before, After: after}
	}
	return []*check.Check{
		of("proof-start", "The export starts, and what is handed over doesn't",
			"Both were run in the same browser, twice. The finding has the reason that a trial would give, and the first place where they differ.",
			"a page of which a script is missing", "a page that has all that the export has"),
		of("proof-request", "A request fails that doesn't fail in the export",
			"What is handed over asks for a file that isn't there, or that the destination's host can't serve. The finding names who asked, "+
				"and the steps of packing that changed the two.",
			"levels/One.json, which is called levels/one.json by now", "the name that the file has"),
		of("proof-exception", "An exception that the export doesn't have",
			"What is handed over throws it, and nothing catches it; the export runs without it.", "a script that lost a line",
			"the script as it was"),
		of("proof-console", "An error on the console that the export doesn't have",
			"What is handed over says it; the export doesn't.", "a picture that can't be decoded", "the picture as it was"),
		of("proof-blocked", "The browser forbids what it allows the export",
			"The destination's frame, its policy, or the way in which it serves files keeps the game from something that the export can do.",
			"a script from a blob where the page's policy has none", "a policy that allows it"),
		of("proof-dialog", "A dialog opens that the export doesn't have", "What is handed over opens it; the export doesn't.",
			"an alert that says that a file is missing", "a game that has its files"),
		of("proof-away", "What is handed over leaves its page", "It opens another page; the export stays.", "a link to the host's root",
			"a link inside the game's folder"),
		of("proof-freeze", "What is handed over freezes or crashes", "It stopped answering after its start; the export didn't.",
			"a loop that waits for a file", "a file that comes"),
		of("proof-call", "A call is missing that the export makes",
			"The export calls a portal's script, or sends an event, and what is handed over doesn't.", "a lost script element",
			"the script element"),
		of("proof-loaded", "A file isn't loaded that the export loads before it starts",
			"The export asks for it before its first picture, and what is handed over never does.", "a script that is left out",
			"the script where it was"),
		of("proof-step", "A step of the trial fails that goes well in the export",
			"The steps under [trial] in havvel.toml were done in both.", "a press that does nothing", "a press that starts the level"),
		of("proof-picture", "The first screen looks different",
			"Pictures of both were compared, place by place, in two runs each. What moves by itself counts only where it stands still in what is "+
				"handed over, or where nearly all of the picture is another.",
			"a lane without its lanterns", "the lane as the export shows it"),
	}
}
