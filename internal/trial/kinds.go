package trial

import (
	"slices"

	"havvel/internal/check"
	"havvel/internal/finding"
)

// Kinds lists what a trial can find, as check lists its checks.
func Kinds() []*check.Check {
	return slices.Concat(startKinds(), errorKinds(), worldKinds(), fitKinds(), callKinds(), valueKinds(), costKinds())
}

// startKinds are about whether the game starts, and what is seen then.
func startKinds() []*check.Check {
	return []*check.Check{
		{
			ID:    "trial-start",
			Title: "The game does not start",
			Level: finding.Error,
			Text: "No picture came within the limit, or loading never ended. The finding names the most likely cause among what was seen: a " +
				"file that is missing or that the host can't serve, an exception, a host that does not answer.",
			Before: "a loading bar that stands at 90 %",
			After:  "the title screen",
		},
		{
			ID:    "trial-untold",
			Title: "Whether the game starts can't be told",
			Level: finding.Warning,
			Text: "Something is to be seen, and nothing says whether it is the game: it stands still or moves a little, and a press changes " +
				"nothing. Or the machine was too busy to judge by. A game that sends loading-done, or steps that lead to where it can be seen, " +
				"settle it.",
			Before: "a spinner that may be the game's own",
			After:  "the event loading-done, when the title can be pressed",
		},
		{
			ID:    "trial-unset",
			Title: "A condition can't be had in this browser",
			Level: finding.Note,
			Text: "A view is tried under a condition, such as a slow processor, that this browser can't be given from outside. All else of the " +
				"view was tried.",
			Before: "cheap-phone in Firefox",
			After:  "cheap-phone in Chromium",
		},
		{
			ID:    "trial-black",
			Title: "The picture stays black",
			Level: finding.Error,
			Text: "The game runs and draws, and nothing is to be seen. Most often a shader or picture could not be made on this browser, or " +
				"is drawn behind something.",
			Before: "a black canvas",
			After:  "the title screen",
		},
		{
			ID:    "trial-still",
			Title: "The picture never changes",
			Level: finding.Warning,
			Text: "Two pictures more than a second apart are the same. A title that stands still is no mistake; a game that should move and " +
				"doesn't is.",
			Before: "the same picture twice",
			After:  "something that moves, or an accepted finding",
		},
	}
}

// errorKinds are about what goes wrong in scripts, and with files.
func errorKinds() []*check.Check {
	return []*check.Check{
		{
			ID:    "trial-exception",
			Title: "A script throws an exception that nothing catches",
			Level: finding.Error,
			Text: "What comes after the exception does not run. Often the game goes on half dead: without sound, without the score, without " +
				"the next level.",
			Before: "TypeError: null is not an object",
			After:  "no exception",
		},
		{
			ID:     "trial-console",
			Title:  "The game writes an error to the console",
			Level:  finding.Warning,
			Text:   "Engines and libraries say there what they could not do. Players don't see it; look whether it matters.",
			Before: "console.error(\"no sound\")",
			After:  "no error",
		},
		{
			ID:    "trial-missing",
			Title: "A file that the game asks for is not there",
			Level: finding.Error,
			Text: "The game asked for a file and the host answered 404, or refused it. It is a warning where the game does without: for a picture " +
				"or a sound, and for a file that the export never had, as long as the game starts and nothing is thrown.",
			Before: "GET lane.pack: 404",
			After:  "GET lane.pack: 200",
		},
		{
			ID:    "trial-encoding",
			Title: "A compressed file came without saying so",
			Level: finding.Error,
			Text: "The file is compressed, and the destination does not send Content-Encoding for it, so that the game gets compressed " +
				"bytes. havvel pack recodes it where it can follow its name.",
			Before: "lane.pack.br without Content-Encoding",
			After:  "lane.pack",
		},
		{
			ID:    "trial-type",
			Title: "A file came under the wrong content type",
			Level: finding.Error,
			Text: "The browser refuses scripts, styles and streamed WebAssembly that come under another type than their own. The type " +
				"follows the name's ending.",
			Before: "rules.bin that is WebAssembly",
			After:  "rules.wasm",
		},
	}
}

// worldKinds are about what the game does to the world around it.
func worldKinds() []*check.Check {
	return []*check.Check{
		{
			ID:     "trial-foreign",
			Title:  "The game talks to another host",
			Level:  finding.Warning,
			Text:   "The game asked another host than the portal's for something. Many portals forbid that, and players' browsers may block it.",
			Before: "GET https://scores.example/top.json",
			After:  "everything in the build",
		},
		{
			ID:    "trial-blocked",
			Title: "The browser blocked something",
			Level: finding.Warning,
			Text: "The browser, or the portal's frame, does not let the game do something: sound before a press, full screen without one, a " +
				"feature that the frame does not allow.",
			Before: "full screen at the start",
			After:  "full screen after a press",
		},
		{
			ID:     "trial-dialog",
			Title:  "The game opens a dialog",
			Level:  finding.Error,
			Text:   "alert, confirm and prompt stand the game still, look like the portal's own words, and are blocked in most frames.",
			Before: "alert(\"You won\")",
			After:  "a message that the game draws",
		},
		{
			ID:     "trial-away",
			Title:  "The game leaves its page",
			Level:  finding.Error,
			Text:   "The page went to another address while the game ran. In a portal's frame the game is gone then.",
			Before: "location.href = \"https://moor-and-thimble.example/\"",
			After:  "a link that opens a window of its own",
		},
		{
			ID:    "trial-page",
			Title: "The game goes on in another of its pages",
			Level: finding.Note,
			Text: "A title page leads to another page of the game, which is fine. What havvel pack puts into pages for a portal is in the entry " +
				"page only.",
			Before: "a portal's script in the title page, and calls of it in play.html",
			After:  "the script in both",
		},
		{
			ID:     "trial-lost",
			Title:  "The drawing context was lost",
			Level:  finding.Error,
			Text:   "The browser took the WebGL context away, most often because memory ran out. Without a handler the picture stays black.",
			Before: "webglcontextlost without a handler",
			After:  "the context is restored",
		},
	}
}

// fitKinds are about how the picture meets the window.
func fitKinds() []*check.Check {
	return []*check.Check{
		{
			ID:     "trial-overflow",
			Title:  "The page can be scrolled",
			Level:  finding.Warning,
			Text:   "The page is larger than the window that the portal gives it, so that scrollbars appear and arrow keys move the page.",
			Before: "a page of 960 by 556 in a frame of 960 by 540",
			After:  "body { margin: 0; overflow: hidden }",
		},
		{
			ID:     "trial-outside",
			Title:  "The canvas does not fit the window",
			Level:  finding.Error,
			Text:   "A part of the canvas lies outside of the window, where players can neither see nor press it.",
			Before: "a canvas of 1280 by 720 in a frame of 960 by 540",
			After:  "a canvas that takes the window's size",
		},
		{
			ID:     "trial-bars",
			Title:  "The game leaves much of the window empty",
			Level:  finding.Note,
			Text:   "The canvas covers less than half of the window. On a phone that is the usual fate of a game made for wide screens.",
			Before: "a wide game on a phone in portrait",
			After:  "a layout for both, or a view that the portal does not offer",
		},
		{
			ID:     "trial-stretched",
			Title:  "The picture is stretched",
			Level:  finding.Warning,
			Text:   "The canvas is shown in another ratio than it is drawn in, so circles become ovals.",
			Before: "800 by 600 shown as 960 by 540",
			After:  "the same ratio, with bars",
		},
		{
			ID:     "trial-blurred",
			Title:  "The picture is blurred",
			Level:  finding.Note,
			Text:   "The canvas has less than half of the pixels that the screen has along each side.",
			Before: "400 by 225 shown as 960 by 540",
			After:  "a canvas with as many pixels as the screen",
		},
	}
}

// callKinds are about what the portal and the developer want to hear.
func callKinds() []*check.Check {
	return []*check.Check{
		{
			ID:     "trial-step",
			Title:  "What a step expects did not happen",
			Level:  finding.Error,
			Text:   "A step of havvel.toml expects an event, a statistic or a call, and it did not come in time.",
			Before: "expect statistic lanterns within 5s",
			After:  "the statistic is sent",
		},
		{
			ID:    "trial-call",
			Title: "A call that the portal requires was not heard",
			Level: finding.Error,
			Text: "The portal wants to hear this call. It is an error for calls of loading; for those of playing it is one only when the " +
				"trial has steps that play.",
			Before: "no Portal.ready",
			After:  "Portal.ready() when loading is done",
		},
		{
			ID:    "trial-late",
			Title: "A call came too late",
			Level: finding.Warning,
			Text: "The portal waits for the call that ends loading, and shows its own cover until then. It came more than three seconds " +
				"after the game's first picture.",
			Before: "Portal.ready() on the first press",
			After:  "Portal.ready() when the title is there",
		},
		{
			ID:     "trial-order",
			Title:  "Calls came in the wrong order",
			Level:  finding.Warning,
			Text:   "The portal wants one call before another, and heard them the other way round.",
			Before: "stop before begin",
			After:  "begin before stop",
		},
	}
}

// valueKinds are about what is sent, and what has changed.
func valueKinds() []*check.Check {
	return []*check.Check{
		{
			ID:    "trial-statistic",
			Title: "A statistic was sent under a name that is not declared",
			Level: finding.Warning,
			Text: "The game sent a statistic that havvel.toml does not declare. Portals drop values of names that they don't know, without a " +
				"word.",
			Before: "lantern = 12 where \"lanterns\" is declared",
			After:  "lanterns = 12",
		},
		{
			ID:    "trial-value",
			Title: "A statistic was sent that is no number",
			Level: finding.Error,
			Text: "A leaderboard takes numbers. NaN and infinite numbers arrive as nothing, a text or an object as itself; portals drop them, " +
				"or show " +
				"what they make of them.",
			Before: "lanterns = NaN",
			After:  "lanterns = 12",
		},
		{
			ID:    "trial-changed",
			Title: "The first screen is another one",
			Level: finding.Warning,
			Text: "The first screen of a view looks different from the one that havvel trial --accept kept, or from the one of the version that " +
				"is public. What moves by itself is left out. A build that starts on the wrong scene is the mistake that costs most.",
			Before: "the title",
			After:  "the editor's test level",
		},
	}
}

// costKinds are about what the game takes.
func costKinds() []*check.Check {
	return []*check.Check{
		{
			ID:    "trial-freeze",
			Title: "The game freezes or crashes after its start",
			Level: finding.Error,
			Text: "The page crashed, or stopped answering, after the game had started, though the machine gave it time. The " +
				"finding says which script ran, " +
				"and from where it was called, and how much memory the game had. On a busy machine it is a warning.",
			Before: "while (night) {}",
			After:  "a loop that ends",
		},
		{
			ID:    "trial-growth",
			Title: "Memory grows",
			Level: finding.Warning,
			Text: "The scripts' objects, WebAssembly's memory or the page's elements grow steadily while the game runs, by more than chance can " +
				"explain. It takes ten seconds of watching to tell (--watch 15s).",
			Before: "trail.push(new Spark()), and never a pop",
			After:  "sparks that are used again",
		},
		{
			ID:    "trial-burst",
			Title: "A call comes too often",
			Level: finding.Warning,
			Text: "One of the portal's calls was made more than ten times within a second, or one that belongs once was made again. Portals drop " +
				"such calls, or refuse the game.",
			Before: "Portal.score(\"lanterns\", n) in every frame",
			After:  "once, when the night is over",
		},
		{
			ID:     "trial-oversize",
			Title:  "The canvas has far more pixels than the screen",
			Level:  finding.Warning,
			Text:   "More than two and a half pixels of the canvas for each of the screen, along a side: six times the work and memory for nothing.",
			Before: "canvas.width = 7680",
			After:  "canvas.width = innerWidth * devicePixelRatio",
		},
		{
			ID:    "trial-silent",
			Title: "A declared statistic was not sent",
			Level: finding.Warning,
			Text: "The trial's steps played, and a statistic of havvel.toml was not sent. Let the steps come to where it is sent, or fix the " +
				"game.",
			Before: "no statistic \"nights\"",
			After:  "nights = 1",
		},
	}
}

func kindOf(id string) *check.Check {
	for _, k := range Kinds() {
		if k.ID == id {
			return k
		}
	}
	return &check.Check{ID: id, Level: finding.Error}
}
