package round

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// A Translation is what testers read, in one language. What it doesn't have is in English.
type Translation struct {
	Language string            `toml:"language" json:"language"` // as in "de" or "pt-BR" (BCP 47)
	Texts    map[string]string `toml:"texts" json:"texts"`
}

// A Text is one that testers read. Words in braces are filled in: {studio}, {day}, {time}, {most}, {characters}.
type Text struct{ Key, English string }

// Texts are all that the page of a round says, but for its game's title, controls and questions.
var Texts = []Text{
	{"playtest", "A playtest"},
	{"no_round", "There is no such round here. Was the link copied whole?"},
	{"over", "This round is over. Thank you for looking in."},
	{"paused", "Its makers have paused this round. Come back later."},
	{"not_invited", "This round is for people who were invited. Open it by the link that you got."},
	{"full", "This round has its {most} testers."},
	{"locked", "This round has a password."},
	{"wrong", "That was not it."},
	{"too_many", "Too many wrong passwords came from here. Wait a minute, and try again."},
	{"password", "password"},
	{"open", "Open"},
	{"no_script", "The game, and this page, need JavaScript. Please allow it for this address."},
	{"ask", "This is a test of a game that isn't finished. May its makers see how it went?"},
	{"ask_by", "This is a test of a game that isn't finished, by {studio}. May its makers see how it went?"},
	{"ask_again", "You have played here before. May the game's makers see how it goes on?"},
	{"what", "If you agree, they get: what happens in the game (levels begun and ended, scores, errors) and when, how smoothly it ran, " +
		"how often and where on the picture you press (never which keys), your browser, system and graphics chip, the size of your window, " +
		"whether you use touch, roughly how much memory there is, and your answers below."},
	{"nameless", "Nothing that says who or where you are."},
	{"named", "They know whose link this is."},
	{"until", "You can withdraw it at any time; on {day} it is deleted."},
	{"questions", "Questions?"},
	{"film", "They may also see a clip of the game's picture in its first minutes. Nothing else on your screen is in it, and no sound."},
	{"share", "Play, and share how it goes"},
	{"alone", "Play without sending anything"},
	{"full_screen", "Full screen"},
	{"withdraw", "Withdraw my session"},
	{"withdraw_before", "Withdraw what I sent before"},
	{"ends", "Open until {time}."},
	{"controls", "Controls"},
	{"mouse", "mouse"},
	{"touch", "touch"},
	{"gamepad", "gamepad"},
	{"afterwards", "Afterwards"},
	{"characters", "Up to {characters} characters."},
	{"send", "Send"},
	{"kept", "Your answers are kept. Thank you."},
	{"late", "This round ended before your answers got here. They were not kept."},
	{"refused", "The host did not take your answers."},
	{"on_their_way", "Your answers of last time are on their way."},
	{"nothing_sent", "Nothing is sent."},
	{"thanks", "The makers see how it goes. Thank you."},
	{"unreachable", "The host can't be reached. Try again in a moment, or play without sending anything."},
	{"sending", "Sending your answers…"},
	{"no_answer", "There is no answer yet."},
	{"no_room", "There is no room for more answers."},
	{"waits", "The host can't be reached. Your answers wait in this browser, also when you leave this page; come back to it to send them."},
	{"waits_open", "The host can't be reached. Your answers wait in this browser: keep this page open."},
	{"deleted", "It is deleted; nothing is kept."},
	{"failed", "That did not work; try again."},
}

// What a translation may hold.
const (
	mostTranslations = 40
	mostTextLength   = 2000 // characters
)

// Verify says what is wrong with a translation.
func (t Translation) Verify() error {
	if t.Language == "" || len(t.Language) > 35 || strings.Trim(strings.ToLower(t.Language), "abcdefghijklmnopqrstuvwxyz0123456789-") != "" {
		return fmt.Errorf("language is %q; it is a tag such as de or pt-BR", t.Language)
	}
	for key, text := range t.Texts {
		if !slices.ContainsFunc(Texts, func(one Text) bool { return one.Key == key }) {
			return fmt.Errorf("there is no text %q; havvel round texts prints all", key)
		}
		if utf8.RuneCountInString(text) > mostTextLength {
			return fmt.Errorf("the text %q has more than %d characters", key, mostTextLength)
		}
	}
	return nil
}

// VerifyTranslations says what is wrong with a round's translations.
func VerifyTranslations(list []Translation) error {
	if len(list) > mostTranslations {
		return fmt.Errorf("a round has up to %d languages", mostTranslations)
	}
	for _, t := range list {
		if err := t.Verify(); err != nil {
			return err
		}
	}
	return nil
}

// Choose is the translation for somebody whose browser asks for languages (Accept-Language, RFC 9110 section 12.5.4), the wanted first; an
// empty one, in English, where there is none. Among languages that are alike, the country decides.
func Choose(list []Translation, asked string) Translation {
	for part := range strings.SplitSeq(asked, ",") {
		tag, _, _ := strings.Cut(strings.TrimSpace(part), ";")
		tag = strings.ToLower(tag)
		main, _, _ := strings.Cut(tag, "-")
		found := -1
		for i, t := range list {
			own := strings.ToLower(t.Language)
			ownMain, _, _ := strings.Cut(own, "-")
			if own == tag {
				return t
			}
			if ownMain == main && found < 0 {
				found = i
			}
		}
		if found >= 0 {
			return list[found]
		}
		if main == "en" {
			break
		}
	}
	return Translation{Language: "en"}
}

// Say is all that the page says, with the words in braces filled in.
func (t Translation) Say(fill *strings.Replacer) map[string]string {
	say := map[string]string{}
	for _, one := range Texts {
		text := one.English
		if own := t.Texts[one.Key]; own != "" {
			text = own
		}
		say[one.Key] = fill.Replace(text)
	}
	return say
}

// Direction is in which direction a language is written: "ltr" or "rtl".
func (t Translation) Direction() string {
	main, _, _ := strings.Cut(strings.ToLower(t.Language), "-")
	if slices.Contains([]string{"ar", "he", "fa", "ur", "yi", "ps", "sd", "ug", "dv", "ckb"}, main) {
		return "rtl"
	}
	return "ltr"
}
