package cli

import (
	"context"
	"time"

	"github.com/spf13/cobra"

	"nexlin/internal/engine"
	"nexlin/internal/health"
	"nexlin/internal/ledger"
	"nexlin/internal/screen"
)

// tryCommand is `nexlin try`.
type tryCommand struct{ *app }

func (a *tryCommand) tryCmd() *cobra.Command {
	var live bool
	var length time.Duration
	c := &cobra.Command{
		Use:   "try NAME",
		Short: "the proof again: a file saved through one path shows up through the other",
		Long: "Saves a small file through the link and sees it at the target, and the other way round, and takes it\n" +
			"away again. With --live it goes on to show what is free on both drives while a program works: what\n" +
			"it saves through the link takes nothing here, and all of it there.",
		Args: cobra.ExactArgs(1),
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			if length < 0 || length > 0 && !live {
				return screen.Usage("--for takes a time such as 30s, and goes with --live")
			}
			return a.named(args, false, "trials", func(e *engine.Engine, r ledger.Redirect) (screen.Doc, error) {
				t, err := health.Try(a.ctx, e, r)
				if err != nil {
					return nil, err
				}
				ok := t.Err == nil && t.Report.State == health.Good
				if !ok {
					a.grave(max(screen.CheckExit(t.Report), screen.ExitProblems))
				}
				d := screen.Doc{"redirect": screen.ReportDoc(t.Report, true), "passed": ok}
				if t.Err != nil {
					d["message"] = t.Err.Error()
				}
				if !a.AsJSON {
					a.ShowTrial(t)
				}
				if ok && live {
					d["live"], err = a.live(e, r, length)
				}
				return d, err
			})
		}),
	}
	c.Flags().BoolVar(&live, "live", false, "show what is free on both drives while a program works, until interrupted")
	c.Flags().DurationVar(&length, "for", 0, "with --live: end after this long (`DURATION`, as in 30s)")
	return c
}

// Live shows the room of both drives until it is interrupted.
func (a *tryCommand) live(e *engine.Engine, r ledger.Redirect, length time.Duration) (screen.Doc, error) {
	ctx, stop := context.WithCancel(a.ctx)
	if length > 0 {
		ctx, stop = context.WithTimeout(a.ctx, length)
	}
	defer stop()
	if !a.AsJSON {
		a.Print("")
		a.Print("let the program work now; Ctrl-C ends this")
	}
	var last health.LiveSpace
	err := health.Live(ctx, e, r, 500*time.Millisecond, func(s health.LiveSpace) {
		last = s
		if !a.AsJSON {
			a.Print("  %s   %s   %s", time.Now().Format("15:04:05"), screen.RoomLine("here", s.Here),
				screen.RoomLine("there", s.There))
		}
	})
	return screen.Doc{
		"seconds": int64(time.Since(last.Since).Seconds()),
		"here":    screen.Doc{"drive": last.Here.Drive, "free_before": last.Here.Before, "free_after": last.Here.Now},
		"there": screen.Doc{"drive": last.There.Drive, "free_before": last.There.Before,
			"free_after": last.There.Now},
	}, err
}
