package cli

import (
	"bytes"
	"context"
	"io"

	"github.com/spf13/cobra"
)

// shells are those that commands can be completed in, and how each is called.
var shells = []struct {
	name  string
	write func(*cobra.Command, io.Writer) error
}{
	{"bash", func(c *cobra.Command, to io.Writer) error { return c.GenBashCompletionV2(to, true) }},
	{"fish", func(c *cobra.Command, to io.Writer) error { return c.GenFishCompletion(to, true) }},
	{"powershell", func(c *cobra.Command, to io.Writer) error { return c.GenPowerShellCompletionWithDesc(to) }},
	{"zsh", func(c *cobra.Command, to io.Writer) error { return c.GenZshCompletion(to) }},
}

func (a *console) completion(root *cobra.Command) *cobra.Command {
	c := a.new(command{
		use:   "completion SHELL",
		short: "Let the Tab key complete commands and names",
		long: "Completion prints a script with which a shell completes commands, flags and the names of your destinations. SHELL is bash, " +
			"fish,\n" +
			"powershell or zsh. Put the script where your shell looks for such scripts, and open a new terminal.",
		example: "  havvel completion bash > ~/.local/share/bash-completion/completions/havvel\n  havvel completion fish > " +
			"~/.config/fish/completions/havvel.fish",
		args: cobra.ExactArgs(1),
		run: func(_ context.Context, args []string) error {
			for _, s := range shells {
				if s.name != args[0] {
					continue
				}
				var script bytes.Buffer
				if err := s.write(root, &script); err != nil {
					return err
				}
				if a.answer(map[string]string{"shell": s.name, "script": script.String()}); a.json {
					return nil
				}
				_, err := script.WriteTo(a.out)
				return err
			}
			return wrong("havvel completion", "there is no script for %q; there are bash, fish, powershell and zsh", args[0])
		},
	})
	for _, s := range shells {
		c.ValidArgs = append(c.ValidArgs, s.name)
	}
	return c
}
