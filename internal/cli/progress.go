package cli

import (
	"fmt"
	"time"

	"github.com/briandowns/spinner"
)

// progress shows on a terminal, from half a second on, that something is being
// done and for how long. What it returns takes the sign away.
func (a *app) progress(doing string) (done func()) {
	if !a.Terminal || a.json {
		return func() {}
	}
	const patience, turn = 400 * time.Millisecond, 100 * time.Millisecond
	began := time.Now()
	sign := spinner.New(spinner.CharSets[9], turn, spinner.WithWriter(a.Err))
	sign.PreUpdate = func(s *spinner.Spinner) {
		s.Suffix = fmt.Sprintf(" %s, %.0f s", doing, time.Since(began).Seconds())
	}
	started := make(chan struct{})
	start := time.AfterFunc(patience, func() {
		sign.Start()
		close(started)
	})
	return func() {
		if start.Stop() {
			return
		}
		<-started
		sign.Stop()
	}
}
