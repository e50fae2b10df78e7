package cli

import (
	"context"
	"errors"
	"slices"
	"strings"

	"havvel/internal/fault"
	"havvel/internal/inwords"
	"havvel/internal/settings"
)

// An exitCode is a number that havvel ends with, and what it means.
type exitCode struct {
	Code    int
	Meaning string
	When    string
}

// The exit codes that no kind of fault has.
const (
	done        = 0
	interrupted = 130
)

// exitCodes lists all exit codes, for the reference.
func exitCodes() []exitCode {
	return []exitCode{
		{
			done,
			"done",
			"The command did what it was asked to do. For check: no errors. Also where Havvel can't tell, which it then says as a warning.",
		},
		{
			codes[fault.No],
			"the answer is no",
			"check found errors; the archive or the page would be refused; the game never started, so that there is no picture of it; nothing " +
				"new would be sent; the portal refused the key, the archive or the request; something that was required can't be told.",
		},
		{
			codes[fault.Usage],
			"wrong usage or settings",
			"An unknown command, option or destination; a havvel.toml or rulebook with a mistake; a path that is not an export, or a broken one.",
		},
		{
			codes[fault.Here],
			"something on this machine is missing or failed",
			"A key that is not set; no browser for a trial, or one that crashed; a full disk; a file that changed while it was packed; a port " +
				"that is taken.",
		},
		{
			codes[fault.Unreachable],
			"a destination could not be reached or broke off",
			"Nothing answers at its address; the connection broke; the outcome of a request is not known; it did not decide within the limit " +
				"of --wait; rulebook and portal don't fit together.",
		},
		{interrupted, "interrupted", "Ctrl-C. Nothing is left half-written under its final name."},
	}
}

// codes are the exit codes of the kinds of faults.
var codes = map[fault.Kind]int{fault.No: 1, fault.Usage: 2, fault.Here: 3, fault.Unreachable: 4}

// wrong is a mistake on the command line of a command.
func wrong(command, format string, args ...any) *fault.Error {
	f := fault.New(fault.Usage, format, args...)
	if cause := fault.Of(f.Cause); cause != nil && cause.Next != "" {
		return f.Then("%s", cause.Next)
	}
	return f.Then("%s --help shows what it takes", command)
}

// refused is an answer of no.
func refused(format string, args ...any) *fault.Error { return fault.New(fault.No, format, args...) }

// oneOf is the mistake of a flag that takes one of a few words; nil when it has one of them.
func oneOf(command, flag, word string, known ...string) error {
	if slices.Contains(known, word) {
		return nil
	}
	f := wrong(command, "%s is %q; it can be %s", flag, word, strings.Join(known, ", "))
	if near := settings.Nearest(word, known); near != "" {
		f.Then("did you mean %q?", near)
	}
	return f
}

// judge returns what has still to be said of an error, and the code that it ends havvel with.
func judge(err error) (faults []*fault.Error, code int) {
	if err == nil {
		return nil, done
	}
	all := fault.All(err)
	real := slices.DeleteFunc(
		slices.Clone(all),
		func(f *fault.Error) bool { return errors.Is(f, context.Canceled) },
	) // what else failed made the others stop
	if len(real) == 0 {
		return []*fault.Error{{What: "stopped; nothing is left half-done", Cause: context.Canceled}}, interrupted
	}
	for _, kind := range []fault.Kind{fault.Unreachable, fault.No, fault.Usage, fault.Here} {
		if slices.ContainsFunc(real, func(f *fault.Error) bool { return f.Kind == kind }) {
			code = codes[kind]
			break
		}
	}
	for _, f := range real {
		if f.What != "" {
			f.At.File = inwords.Near(f.At.File)
			faults = append(faults, f)
		}
	}
	return faults, code
}

// complain prints a fault, and what to do next.
func (a *console) complain(f *fault.Error) {
	a.screen.Complain("havvel: " + cleanLines(f.Error()))
	if f.Next != "" {
		a.screen.Complain("  " + cleanLines(f.Next))
	}
}

// cleanLines makes words of several lines safe to print.
func cleanLines(words string) string {
	var lines []string
	for line := range strings.SplitSeq(words, "\n") {
		lines = append(lines, strings.Repeat(" ", len(line)-len(strings.TrimLeft(line, " ")))+inwords.Clean(line))
	}
	return strings.Join(lines, "\n")
}
