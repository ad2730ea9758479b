package cli

import (
	"time"

	"github.com/schollz/progressbar/v3"
)

// progress shows on a terminal, from half a second on, that something is being
// done; what it returns takes the sign away.
func (a *app) progress(doing string) (done func()) {
	if !a.Terminal || a.json {
		return func() {}
	}
	end, gone := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(gone)
		select {
		case <-end:
			return
		case <-time.After(400 * time.Millisecond):
		}
		bar := progressbar.NewOptions(-1, progressbar.OptionSetWriter(a.Err),
			progressbar.OptionSetDescription(doing), progressbar.OptionClearOnFinish(),
			progressbar.OptionSpinnerType(9), progressbar.OptionSetElapsedTime(true),
			progressbar.OptionUseANSICodes(true))
		tick := time.NewTicker(100 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-end:
				_ = bar.Finish()
				return
			case <-tick.C:
				_ = bar.Add(1)
			}
		}
	}()
	return func() { close(end); <-gone }
}
