package cli

import (
	"bytes"
	"embed"
	"path"
	"strings"

	"github.com/spf13/cobra"
)

// topics are pages of the help that are about no command: a file each, with what it is about in
// the first line.
//
//go:embed topics/*.txt
var topics embed.FS

// addTopics gives the root a page of help for each.
func (a *app) addTopics(root *cobra.Command) {
	names, _ := topics.ReadDir("topics") // it is part of the program
	for _, n := range names {
		text, _ := topics.ReadFile(path.Join("topics", n.Name()))
		about, page, _ := strings.Cut(string(text), "\n")
		root.AddCommand(&cobra.Command{Use: strings.TrimSuffix(n.Name(), ".txt"), Short: about, Long: about + "\n\n" +
			strings.TrimSpace(page)})
	}
	root.SetUsageTemplate(strings.NewReplacer("Additional help topics:", "Topics:",
		"{{rpad .CommandPath .CommandPathPadding}}", "nexlin help {{rpad .Name 12}}").Replace(root.UsageTemplate()))
	plain := root.HelpFunc()
	root.SetHelpFunc(func(c *cobra.Command, args []string) {
		var page bytes.Buffer
		c.SetOut(&page)
		plain(c, args)
		c.SetOut(nil)
		a.Help(page.String())
	})
	root.InitDefaultHelpCmd()
	if help, _, err := root.Find([]string{"help"}); err == nil {
		help.Short = "what a command does, or one of the topics below"
		help.Run = nil
		help.RunE = func(_ *cobra.Command, words []string) error {
			about, _, err := root.Find(words)
			if err != nil || about == root && len(words) > 0 {
				return noCommand(root, words[0])
			}
			return about.Help()
		}
	}
}
