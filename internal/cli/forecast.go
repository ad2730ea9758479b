package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"calmdawn/internal/core/item"
	"calmdawn/internal/document"
	"calmdawn/internal/say"
	"calmdawn/internal/visit"
)

func (a *app) forecastCommand() *cobra.Command {
	var w wish
	var best, delay bool
	w.turnWords = turnWords{verb: "forecast", to: item.Off}
	cmd := &cobra.Command{
		Use:   "forecast ITEM... | --best",
		Short: "Tell what a boot would take without some items, before anything is touched",
		Long: `Forecast replays the machine's last boots with the given items left out, all
at once and each alone. It says when it would have been ready, and the range a
measurement should fall into. Nothing is changed.

--best looks for the few items that bring most of what all would that may go
or wait. Protected items are left alone.`,
		Example: `  calmdawn forecast service:star-index.service
  calmdawn forecast service:star-index.service service:star-cache.service
  calmdawn forecast --maker pellin
  calmdawn forecast --delay service:lanternfile-crawl.service
  calmdawn forecast --best`,
		Args: func(cmd *cobra.Command, args []string) error {
			switch {
			case cmd.Flags().Changed("by") && !delay:
				return usage("--by goes with --delay")
			case delay && best:
				return usage("--best tells what switching off brings; give --delay items")
			case delay && (w.By < time.Second || w.By > 24*time.Hour):
				return usage("--by takes a time from 1s to 24h, not %s", w.By)
			case best && (len(args) > 0 || w.filter.Chooses()):
				return usage("--best looks for items by itself; give it none")
			case !best && len(args) == 0 && !w.filter.Chooses():
				return usage("forecast takes items, flags that choose some, or " +
					"--best; calmdawn list shows them")
			}
			return w.filter.Check()
		},
		ValidArgsFunction: a.completeIDs,
		RunE: func(_ *cobra.Command, args []string) error {
			w.IDs = args
			l, err := a.lookAtBoots()
			if err != nil {
				return err
			}
			defer l.Close()
			if len(l.Replays) == 0 && !l.Recordable() && len(l.Boots) > 0 {
				return fmt.Errorf("nothing can be forecast for %s: %s\nboots before and after "+
					"a change tell: %s", say.MachineName(l), say.Unfitness(l), a.call("compare"))
			}
			if len(l.Replays) == 0 {
				return fmt.Errorf("nothing can be forecast for %s: %s\n%s shows the boots that "+
					"it remembers", say.MachineName(l), say.Unfitness(l), a.call("boots"))
			}
			if best {
				return a.forecastBest(l)
			}
			by := time.Duration(0)
			if delay {
				by = w.By
			}
			return a.forecast(l, w, by)
		},
	}
	w.filter.flags(a, cmd)
	cmd.Flags().BoolVar(&best, "best", false, "find the few items that bring most")
	cmd.Flags().BoolVar(&delay, "delay", false, "delay the items instead of switching them off")
	cmd.Flags().DurationVar(&w.By, "by", time.Minute, "with --delay, for how `LONG`: 90s, 5m")
	return cmd
}

// forecast tells what a boot would take without what is wished, or with it
// delayed by more than 0.
func (a *app) forecast(l *visit.Visit, w wish, by time.Duration) error {
	picked, err := l.Choose(w.asked())
	if err != nil {
		return err
	}
	f := l.Foresee(picked, by)
	if !a.json {
		say.ShowForecast(a.screen(), l, f)
		return nil
	}
	if by > 0 {
		f.All.Quiet = false
	}
	return a.writeJSON(document.NewForecast(f.All, f.Items, f.Each, f.Unasked, l.Simulated()))
}

// forecastBest shows the few items that bring most.
func (a *app) forecastBest(l *visit.Visit) error {
	done := a.progress("replaying boots")
	best := l.Best()
	done()
	if a.json {
		doc := document.NewForecast(best.Chosen, best.Items, best.Each, nil, l.Simulated())
		for i, d := range best.Do {
			doc.Items[i].Do, doc.Items[i].By = d.Do, d.By
		}
		return a.writeJSON(doc)
	}
	numbered := best.Felt() && a.keepList(l, visit.Rows(best.Items))
	say.ShowBest(a.screen(), l, best, numbered)
	return nil
}
