package cli

import (
	"io"
	"os"

	"github.com/spf13/cobra"

	"nexlin/internal/screen"
	"nexlin/internal/selftest"
)

// selftestCommand is `nexlin selftest`.
type selftestCommand struct{ *app }

func (a *selftestCommand) selftestCmd() *cobra.Command {
	var into, report string
	c := &cobra.Command{
		Use:   "selftest --into DIR",
		Short: "play a whole move with a made-up folder, on this system and these drives",
		Long: "Makes a folder of everything that file systems find hard, in a directory of its own in your\n" +
			"home, and plays its whole life with the drive that DIR lies on: moved, tried, taken back, killed\n" +
			"half-way and finished, worked in, written to late, mended, read from the drive, brought back. It\n" +
			"says what the two drives keep, and what did not go well. Nothing of yours is touched, your records\n" +
			"neither, and nothing is left; it takes two minutes at most. What a self-test that was killed has\n" +
			"left, the next one takes away.",
		Args: cobra.NoArgs,
		RunE: a.runner(func(*cobra.Command, []string) error {
			if into == "" {
				return screen.Usage("--into says where: a directory on another drive than your home's")
			}
			if report != "" && report != "-" {
				if err := notThere(a.app, report); err != nil {
					return err
				}
			}
			return a.selftest(into, report)
		}),
	}
	c.Flags().StringVar(&into, "into", "", "a directory on the other drive (`DIR`, or LABEL:/dir)")
	c.Flags().StringVar(&report, "report", "", "write what was found to `FILE`, without names of yours, for sending")
	return c
}

// step tells what is played, to whoever waits.
func (a *selftestCommand) step(name string) {
	if !a.Quiet && !a.AsJSON {
		a.Note("%s", name)
	}
}

func (a *selftestCommand) selftest(into, report string) error {
	drives, err := a.drives()
	if err != nil {
		return err
	}
	cwd, err := os.Getwd()
	if err != nil {
		return err
	}
	at, err := drives.Place(into, cwd)
	if err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	o := selftest.Options{Program: self, Version: version, Home: a.Home, Into: at, Env: os.Environ(), Drives: drives,
		Step: a.step}
	if a.standins != "" {
		o.Args = []string{"--standin-drives", a.standins}
	}
	r, err := selftest.Run(a.ctx, o)
	if err != nil {
		return err
	}
	if !r.Well() {
		a.grave(screen.ExitProblems)
	}
	doc := screen.Doc{"nexlin": 1, "command": a.command, "selftest": screen.SelftestDoc(r)}
	if report != "" {
		if err := writeNew(a.app, report, func(w io.Writer) error { return doc.Write(w, "  ") }); err != nil {
			return err
		}
	}
	if a.AsJSON {
		return a.emit(doc)
	}
	if !a.Quiet {
		a.Print("")
	}
	a.ShowSelftest(r)
	return nil
}
