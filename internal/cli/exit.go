package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"havvel/internal/cli/term"
	"havvel/internal/deliver"
	"havvel/internal/deliver/portal"
	"havvel/internal/deliver/site"
	"havvel/internal/deliver/site/sftp"
	"havvel/internal/demo"
	"havvel/internal/export"
	"havvel/internal/pack"
	"havvel/internal/place"
	"havvel/internal/project"
	"havvel/internal/round"
	"havvel/internal/settings"
	"havvel/internal/trial"
)

// An exitCode is a number that havvel ends with, and what it means.
type exitCode struct {
	Code    int
	Meaning string
	When    string
}

// The exit codes.
const (
	done        = 0
	answerNo    = 1
	wrongUsage  = 2
	failedHere  = 3
	unreachable = 4
	interrupted = 130
)

// exitCodes lists all exit codes, for the reference.
func exitCodes() []exitCode {
	return []exitCode{
		{done, "done", "The command did what it was asked to do. For check: no errors."},
		{answerNo, "the answer is no", "check found errors; the archive, or the page, would not be taken; the game never started, so that no picture of it could be taken; nothing new would be sent; the portal refused the key, the archive or the request."},
		{wrongUsage, "wrong usage or project file", "An unknown command, option or destination; a havvel.toml or rulebook with a mistake; a path that is not an export, or a broken one."},
		{failedHere, "something on this machine is missing or failed", "A key that is not set; no browser for a trial, or one that crashed; a full disk; a file that changed while it was packed; a port that is taken."},
		{unreachable, "a destination could not be reached or broke off", "Nothing answers at its address; the connection broke; it did not decide within the limit of --wait; rulebook and portal don't fit together."},
		{interrupted, "interrupted", "Ctrl-C. Nothing is left half-written under its final name."},
	}
}

// silent ends havvel with a code after everything has been said.
type silent struct{ code int }

func (e *silent) Error() string { return fmt.Sprintf("exit code %d", e.code) }

// exit prints an error and returns the code that says what kind it is.
func (a *app) exit(err error) int {
	if err == nil {
		return done
	}
	var quiet *silent
	if errors.As(err, &quiet) {
		if err = spoken(err); err == nil {
			return quiet.code
		}
	}
	real := slices.DeleteFunc(parts(err), func(e error) bool { return errors.Is(e, context.Canceled) }) // what else failed made the others stop
	if len(real) == 0 {
		a.screen.Complain("havvel: stopped; nothing is left half-done")
		return interrupted
	}
	err = errors.Join(real...)
	said := map[string]bool{}
	for _, e := range real {
		if !said[e.Error()] { // such as of two versions at one destination
			a.say(e)
		}
		said[e.Error()] = true
	}
	return codeOf(err)
}

// say prints one error, and what to do next.
func (a *app) say(err error) {
	var problem *settings.Problem
	if errors.As(err, &problem) {
		problem.File = term.Near(problem.File)
	}
	var lines []string
	for line := range strings.SplitSeq(err.Error(), "\n") {
		lines = append(lines, strings.Repeat(" ", len(line)-len(strings.TrimLeft(line, " ")))+term.Clean(line))
	}
	a.screen.Complain("havvel: " + strings.Join(lines, "\n"))
	if next := advice(err); next != "" {
		a.screen.Complain("  " + next)
	}
}

// parts are the errors that were joined into one.
func parts(err error) (list []error) {
	several, ok := err.(interface{ Unwrap() []error })
	if !ok || strings.Join(texts(several.Unwrap()), "\n") != err.Error() { // it is one, or has words of its own around them
		return []error{err}
	}
	for _, e := range several.Unwrap() {
		list = append(list, parts(e)...)
	}
	return list
}

func texts(list []error) (words []string) {
	for _, e := range list {
		words = append(words, e.Error())
	}
	return words
}

// spoken is what of several errors has still to be said; nil when nothing has.
func spoken(err error) error {
	if _, quiet := err.(*silent); quiet {
		return nil
	}
	several, ok := err.(interface{ Unwrap() []error })
	if !ok {
		return err
	}
	var left []error
	for _, e := range several.Unwrap() {
		left = append(left, spoken(e)) // Join drops those that are nil
	}
	return errors.Join(left...)
}

func is[E error](err error) bool {
	var e E
	return errors.As(err, &e)
}

func codeOf(err error) int {
	switch {
	case is[*portal.Unreachable](err), is[*site.Unreachable](err), is[*portal.Puzzled](err), is[*undecided](err), is[*round.Unreachable](err):
		return unreachable
	case is[*portal.Refused](err), is[*site.Refused](err), is[*site.Busy](err), is[*site.Broken](err), is[*site.Foreign](err), is[*site.Gone](err), is[*deliver.NoWay](err), is[*pack.Faulty](err), is[*deliver.AlreadySent](err), is[*notReady](err), is[*untried](err), is[*badPage](err), is[*trial.NotStarted](err), is[*round.Refused](err):
		return answerNo
	case is[*usage](err), is[*trial.NoView](err), is[*deliver.NoPublic](err), is[*sftp.BadKey](err), is[*settings.Problem](err), is[*export.Unreadable](err), is[*demo.NotDemo](err), errors.Is(err, project.ErrNone):
		return wrongUsage
	}
	return failedHere
}

// advice says what to do about errors whose own words don't.
func advice(err error) string {
	var refused *portal.Refused
	var sent *deliver.AlreadySent
	var no *site.Refused
	switch {
	case place.Full(err):
		return "the disk is full: make room there and try again; what was there before is as it was"
	case errors.As(err, &refused) && refused.Key:
		return "check the key: is it the right one, whole, and still valid?"
	case errors.As(err, &sent) && sent.Same:
		return "export the game again, or send the same once more with --again"
	case errors.As(err, &sent):
		return "raise the version in havvel.toml, or send it once more with --again"
	case is[*trial.NoBrowser](err):
		return "install Chromium (Debian: apt install chromium), or name one with HAVVEL_BROWSER"
	case is[*trial.NotStarted](err):
		return "havvel trial says what it saw instead"
	case is[*trial.Broken](err):
		return "run the same command again; if it stays so, name another browser with HAVVEL_BROWSER"
	case errors.As(err, &no):
		return no.Next
	case is[*site.Busy](err):
		return "wait until that is done, and run the same command again"
	case is[*site.Broken](err):
		return "send the version again with --again: only what is missing travels"
	case is[*deliver.NoWay](err):
		return "do it on the portal's own page; docs/formats/rulebook.md says how a rulebook learns it"
	case is[*portal.Unreachable](err), is[*site.Unreachable](err), is[*round.Unreachable](err):
		return "nothing was lost; run the same command again when it can be reached"
	case is[*portal.Puzzled](err):
		return "the portal may have changed, or its rulebook needs a correction"
	case is[*pack.Faulty](err):
		return "havvel check shows all findings"
	}
	return ""
}
