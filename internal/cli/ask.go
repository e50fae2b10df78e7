package cli

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	xterm "golang.org/x/term"

	"havvel/internal/inwords"
	"havvel/internal/rulebook"
)

// An asker puts questions to the person at the terminal.
type asker struct {
	a     *console
	lines *bufio.Reader
}

// asker is nil where nobody sits at a terminal: a flag or a default has to answer then.
func (a *console) asker() *asker {
	in, ok := a.in.(*os.File)
	if !ok || !xterm.IsTerminal(int(in.Fd())) {
		return nil
	}
	if a.asking == nil { // what was typed ahead is in its reader
		a.asking = &asker{a, bufio.NewReader(in)}
	}
	return a.asking
}

// ask fills in what was not said yet. Enter alone leaves it as it is.
func (k *asker) ask(ctx context.Context, question string, into *string) error {
	fmt.Fprint(k.a.err, question)
	answer := make(chan string, 1)
	go func() {
		line, _ := k.lines.ReadString('\n') // at the end of the input nothing was said
		answer <- line
	}()
	select {
	case line := <-answer:
		if line = inwords.Clean(strings.TrimSpace(line)); line != "" {
			*into = line
		}
		return nil
	case <-ctx.Done():
		fmt.Fprintln(k.a.err)
		return ctx.Err()
	}
}

// choose asks until the answer is one of some, or nothing.
func (k *asker) choose(ctx context.Context, question string, of []string, into *string) error {
	for {
		answer := ""
		if err := k.ask(ctx, question, &answer); err != nil || answer == "" {
			return err
		}
		if len(of) == 0 || slices.Contains(of, answer) {
			*into = answer
			return nil
		}
		fmt.Fprintf(k.a.err, "%s is none of: %s\n", answer, strings.Join(of, ", "))
	}
}

// value asks for one that a rulebook wants of each destination.
func (k *asker) value(ctx context.Context, destination string, v rulebook.Value, into *string) error {
	of := ""
	if len(v.OneOf) > 0 {
		of = "; one of " + strings.Join(v.OneOf, ", ")
	}
	later := "later"
	if v.Default != "" {
		later = v.Default
	}
	return k.choose(ctx, fmt.Sprintf("%s, %s: %s%s (Enter: %s): ", destination, v.Name, v.Says, of, later), v.OneOf, into)
}
